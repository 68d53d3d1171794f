// Sun disk labels: one big-endian sector with geometry, a volume table of contents and eight partitions that
// begin at cylinders (dklabel(7), <sys/dklabel.h>; include/linux partitions of the same layout). Bytes 508
// and 509 are the mark, and all 16-bit words of the sector exclusive-ored are 0.
#include <fmt/format.h>

#include "base/structure.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/image/formats.h"
#include "format/image/partition_table.h"

namespace operculum {
namespace {

constexpr std::uint16_t kMark = 0xDABE;
constexpr std::uint32_t kSanity = 0x600DDEEE;  // of the volume table of contents
constexpr std::size_t kPartitions = 8;
constexpr std::uint64_t kSector = 512;

/// Tags of the partitions follow the number of them, and the partitions the geometry.
struct Label {
  std::uint32_t version = 0, sanity = 0;
  std::array<Byte, 8> volume{};
  std::uint16_t nparts = 0, heads = 0, sectors = 0, magic = 0, checksum = 0;
  static constexpr auto layout =
      big_endian(from_byte<128>(), field("v_version", &Label::version), field("v_volume", &Label::volume),
                 field("v_nparts", &Label::nparts), from_byte<188>(), field("v_sanity", &Label::sanity),
                 from_byte<436>(), field("dkl_nhead", &Label::heads), field("dkl_nsect", &Label::sectors),
                 from_byte<508>(), field("dkl_magic", &Label::magic), field("dkl_cksum", &Label::checksum));
  static constexpr std::size_t tags_at = 142, partitions_at = 444;
};
struct Tag {
  std::uint16_t tag = 0, flag = 0;
  static constexpr auto layout = big_endian(field("p_tag", &Tag::tag), field("p_flag", &Tag::flag));
};
struct Place {
  std::uint32_t cylinder = 0, sectors = 0;
  static constexpr auto layout =
      big_endian(field("dkl_cylno", &Place::cylinder), field("dkl_nblk", &Place::sectors));
};
constexpr std::size_t kLabelSize = size_on_disk<Label>;
static_assert(kLabelSize == kSector);

std::string_view tag_name(std::uint16_t tag) {
  static constexpr std::string_view kNames[] = {"unassigned", "boot",  "root", "swap", "usr",
                                                "whole disk", "stand", "var",  "home", "alternate sectors",
                                                "cache"};
  return tag < std::size(kNames) ? kNames[tag] : tag == 0x82 ? "Linux swap" : tag == 0x83 ? "Linux" : "other";
}

bool is_label(ByteView raw) {
  if (raw.size() < kLabelSize) return false;
  std::uint64_t sum = 0;
  for (std::size_t at = 0; at < kLabelSize; at += 2) sum ^= load_number(raw.data() + at, 2, std::endian::big);
  return read_structure<Label>(raw.data()).magic == kMark && sum == 0;
}

Match recognise_sun_label(Probe& probe) {
  return is_label(probe.head(kLabelSize)) ? Match::front : Match::none;
}

ContainerPtr open_sun_label(const Input& input, OpenContext& context) {
  SourcePtr disk = random_access(*input.content, context.spool);
  Bytes raw = read_exactly(*disk, 0, kLabelSize, "Sun disk label");
  auto label = read_structure<Label>(raw.data());
  std::uint64_t cylinder = std::uint64_t{label.heads} * label.sectors * kSector;
  if (cylinder == 0) throw Malformed("Sun disk label: its cylinders have no sectors");
  bool tagged = label.sanity == kSanity && label.version == 1;
  PartitionTable table;
  table.taken.emplace_back(0, kLabelSize);
  std::string_view name = until_zero(as_text(label.volume));
  if (tagged && !name.empty()) table.facts.emplace_back("label", std::string(name));
  for (std::size_t i = 0; i < kPartitions; ++i) {
    auto place = read_structure<Place>(raw.data() + Label::partitions_at + i * size_on_disk<Place>);
    Tag tag;
    if (tagged) tag = read_structure<Tag>(raw.data() + Label::tags_at + i * size_on_disk<Tag>);
    constexpr std::uint16_t kWholeDisk = 5;
    bool whole = tag.tag == kWholeDisk || (!tagged && i == 2);
    if (place.sectors == 0 || whole) continue;
    table.partitions.push_back({std::to_string(i + 1), "", std::string(tag_name(tag.tag)),
                                place.cylinder * cylinder, place.sectors * kSector});
  }
  return make_partitions(std::move(disk), std::move(table));
}

}  // namespace

Format sun_label_format() {
  return {.id = "sun-label",
          .name = "disk with a Sun label",
          .family = "partition table",
          .specification = "dklabel(7), <sys/dklabel.h>",
          .reads = "all partitions with their tags, labels without a table of contents, unallocated ranges",
          .lacks = "",
          .suffixes = {},
          .recognise = recognise_sun_label,
          .open = open_sun_label,
          .records = {record_at<Label>("label", 0)}};
}

}  // namespace operculum

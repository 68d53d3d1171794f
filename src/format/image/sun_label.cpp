// Sun disk labels: one big-endian sector with geometry, a volume table of contents and eight partitions that
// begin at cylinders (dklabel(7), <sys/dklabel.h>; include/linux partitions of the same layout). Bytes 508
// and 509 are the mark, and all 16-bit words of the sector exclusive-ored are 0.
#include <fmt/format.h>

#include "base/fields.h"
#include "base/text.h"
#include "format/image/formats.h"
#include "format/image/partition_table.h"

namespace operculum {
namespace {

constexpr std::size_t kLabelSize = 512, kVersionAt = 128, kVolumeAt = 132, kTagsAt = 142, kSanityAt = 188;
constexpr std::size_t kTracksAt = 436, kSectorsAt = 438, kPartitionsAt = 444, kMarkAt = 508;
constexpr std::uint16_t kMark = 0xDABE;
constexpr std::uint32_t kSanity = 0x600DDEEE;  // of the volume table of contents
constexpr std::size_t kPartitions = 8;
constexpr std::uint64_t kSector = 512;

std::string_view tag_name(std::uint16_t tag) {
  static constexpr std::string_view kNames[] = {"unassigned", "boot",  "root", "swap", "usr",
                                                "whole disk", "stand", "var",  "home", "alternate sectors",
                                                "cache"};
  return tag < std::size(kNames) ? kNames[tag] : tag == 0x82 ? "Linux swap" : tag == 0x83 ? "Linux" : "other";
}

bool is_label(ByteView raw) {
  if (raw.size() < kLabelSize) return false;
  BigFields f(raw, "Sun disk label");
  std::uint16_t sum = 0;
  for (std::size_t at = 0; at < kLabelSize; at += 2) sum ^= f.u16(at);
  return f.u16(kMarkAt) == kMark && sum == 0;
}

Match recognise_sun_label(Probe& probe) {
  return is_label(probe.head(kLabelSize)) ? Match::front : Match::none;
}

ContainerPtr open_sun_label(const Input& input, OpenContext& context) {
  SourcePtr disk = random_access(*input.content, context.spool);
  Bytes raw = read_exactly(*disk, 0, kLabelSize, "Sun disk label");
  BigFields f(raw, "Sun disk label");
  std::uint64_t cylinder = std::uint64_t{f.u16(kTracksAt)} * f.u16(kSectorsAt) * kSector;
  if (cylinder == 0) throw Malformed("Sun disk label: its cylinders have no sectors");
  bool tagged = f.u32(kSanityAt) == kSanity && f.u32(kVersionAt) == 1;
  PartitionTable table;
  table.taken.emplace_back(0, kLabelSize);
  if (tagged) {
    std::string_view name = f.text(kVolumeAt, 8);
    name = until_zero(name);
    if (!name.empty()) table.facts.emplace_back("label", std::string(name));
  }
  for (std::size_t i = 0; i < kPartitions; ++i) {
    std::uint64_t start = f.u32(kPartitionsAt + i * 8) * cylinder,
                  length = f.u32(kPartitionsAt + i * 8 + 4) * kSector;
    std::uint16_t tag = tagged ? f.u16(kTagsAt + i * 4) : 0;
    constexpr std::uint16_t kWholeDisk = 5;
    bool whole = tag == kWholeDisk || (!tagged && i == 2);
    if (length == 0 || whole) continue;
    table.partitions.push_back({std::to_string(i + 1), "", std::string(tag_name(tag)), start, length});
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
          .open = open_sun_label};
}

}  // namespace operculum

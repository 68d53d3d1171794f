// RAID groups of the matrix storage manager, as Linux mdadm (super-intel.c) and libblkid read them. One disk
// opens the group; the others are beside it. Which disk a file is, only its name can tell: it has the disk's
// serial number in it. Copies need no order.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/checksum.h"
#include "base/error.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/volume/formats.h"
#include "format/volume/imsm_records.h"
#include "format/volume/raid_array.h"
#include "format/volume/raid_volumes.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace imsm;

constexpr std::size_t kMostSize = 1 << 20;  // bytes of a description

std::uint64_t wide(std::uint32_t low, std::uint32_t high) {
  return std::uint64_t{high} << 32 | low;
}

/// What a volume says of itself.
struct VolumeText {
  Volume volume;
  Map map;
  std::vector<std::uint32_t> order;
};

/// The description of a group.
struct Description {
  Head head;
  std::vector<std::string> serials;
  std::vector<VolumeText> volumes;
};

/// The sum of all numbers of 32 bits but the sum itself.
std::uint32_t sum_of(ByteView bytes) {
  std::uint32_t sum = 0;
  for (std::size_t at = 0; at + 4 <= bytes.size(); at += 4)
    sum += load_little<std::uint32_t>(bytes.data() + at);
  return sum - read_field(&Head::check_sum, bytes.data());
}

/// All bytes of a description; nothing where there is none, or where it is damaged.
std::optional<Bytes> description_bytes(const Source& file) {
  constexpr std::uint64_t kBehind = 2 * kSectorSize;
  if (file.size() < kBehind) return std::nullopt;
  std::uint64_t anchor = file.size() - kBehind;
  Bytes bytes = read_up_to(file, anchor, kSectorSize);
  if (bytes.size() < kSectorSize || !starts_with(bytes, kSignature)) return std::nullopt;
  std::size_t size = read_field(&Head::mpb_size, bytes.data());
  if (size < kDisksAt || size > kMostSize || size % 4 != 0) return std::nullopt;
  if (size > kSectorSize) {
    std::uint64_t rest = (size - 1) / kSectorSize * kSectorSize;
    if (rest > anchor) return std::nullopt;
    Bytes more = read_up_to(file, anchor - rest, rest);
    bytes.insert(bytes.end(), more.begin(), more.end());
    if (bytes.size() < size) return std::nullopt;
  }
  bytes.resize(size);
  if (!sum_fits(sum_of(bytes), read_field(&Head::check_sum, bytes.data()))) return std::nullopt;
  return bytes;
}

Description read_description(const Bytes& bytes) {
  Cursor all(bytes, "RAID description");
  Description out{.head = read_structure<Head>(all)};
  all.skip(kDisksAt - size_on_disk<Head>);
  for (unsigned i = 0; i < out.head.num_disks; ++i) {
    auto row = read_structure<DiskRow>(all.take(kDiskRowSize).data());
    out.serials.emplace_back(trim(until_zero(as_text(row.serial))));
  }
  for (unsigned i = 0; i < out.head.num_raid_devs; ++i) {
    VolumeText one;
    one.volume = read_structure<Volume>(all.take(kMapAt).data());
    for (unsigned map = 0; map < (one.volume.migr_state != 0 ? 2u : 1u); ++map) {
      auto of_map = read_structure<Map>(all.take(kOrderAt).data());
      std::vector<std::uint32_t> order;
      for (unsigned member = 0; member < of_map.num_members; ++member) order.push_back(all.u32le());
      if (map == 0) one.map = of_map, one.order = std::move(order);
    }
    out.volumes.push_back(std::move(one));
  }
  return out;
}

RaidShape shape_of(const Map& map) {
  RaidShape shape{.level = map.raid_level, .chunk = map.blocks_per_strip * kSectorSize};
  std::uint64_t stripes = wide(map.num_data_stripes_lo, map.num_data_stripes_hi);
  shape.member_size = stripes * map.blocks_per_strip * std::max<unsigned>(map.num_domains, 1) * kSectorSize;
  if (map.raid_level == 10 || (map.raid_level == 1 && map.num_members > 2)) {
    shape.level = 10;
    shape.layout = 0x102;  // two copies side by side
  } else if (map.raid_level != 0 && map.raid_level != 1 && map.raid_level != 5) {
    throw Unsupported(fmt::format("RAID of level {}", map.raid_level));
  }
  return shape;  // of level 5 layout 0, left-asymmetric
}

struct DiskFile {
  std::string name;
  SourcePtr file;
};

class Group {
 public:
  Group(const Input& input, SourcePtr own, const Bytes& bytes) : newest_(read_description(bytes)) {
    const std::uint32_t family = newest_.head.family_num;
    files_.push_back({std::string(base_name(input.name)), std::move(own)});
    input.sibling.each([&](const Candidate& candidate, const SourcePtr& file) {
      auto other = description_bytes(*file);
      if (!other || read_field(&Head::family_num, other->data()) != family) return true;
      if (read_field(&Head::generation_num, other->data()) > newest_.head.generation_num)
        newest_ = read_description(*other);
      std::string name(base_name(candidate.name));
      bool known =
          std::any_of(files_.begin(), files_.end(), [&](const DiskFile& one) { return one.name == name; });
      if (!known) files_.push_back({std::move(name), file});
      return true;
    });
  }

  const Description& description() const { return newest_; }
  std::size_t disks() const { return files_.size(); }

  std::vector<RaidVolume> volumes() const {
    std::vector<RaidVolume> out;
    for (const VolumeText& one : newest_.volumes) out.push_back(volume(one));
    return out;
  }

 private:
  /// The file whose name has the serial number in it; null when there is none.
  SourcePtr file_of(const std::string& serial) const {
    constexpr std::size_t kLeast = 3;
    std::string part = to_lower(base_name(serial));
    if (part.size() < kLeast) return nullptr;
    for (const DiskFile& one : files_) {
      if (to_lower(one.name).find(part) != std::string::npos) return one.file;
    }
    return nullptr;
  }

  /// How many files have no serial number of the group in their names.
  std::size_t nameless_files() const {
    std::size_t named = 0;
    for (const std::string& serial : newest_.serials) named += file_of(serial) != nullptr ? 1 : 0;
    return files_.size() - std::min(files_.size(), named);
  }

  RaidVolume volume(const VolumeText& text) const {
    RaidVolume out{.name = std::string(until_zero(as_text(text.volume.volume))),
                   .size = wide(text.volume.size_low, text.volume.size_high) * kSectorSize,
                   .members = text.order.size()};
    std::vector<SourcePtr> files;
    for (std::uint32_t number : text.order) {
      std::size_t row = number & (kRebuilt - 1);
      bool usable = (number & kRebuilt) == 0 && row < newest_.serials.size();
      files.push_back(usable ? file_of(newest_.serials[row]) : nullptr);
    }
    bool copies = text.map.raid_level == 1 && text.map.num_members <= 2;
    if (copies &&
        std::none_of(files.begin(), files.end(), [](const SourcePtr& one) { return one != nullptr; }))
      files[0] = files_[0].file;  // any of them will do
    auto lost = static_cast<std::size_t>(std::count(files.begin(), files.end(), nullptr));
    std::size_t nameless =
        copies ? lost : std::min(lost, nameless_files());  // there, but it cannot be told which
    out.missing = copies && files_.size() < out.members ? lost : lost - nameless;
    try {
      out.readable = lost <= redundancy(shape_of(text.map), out.members);
      out.type = level_name(shape_of(text.map).level);
    } catch (const Unsupported&) {
      out.type = fmt::format("RAID level {}", text.map.raid_level);
    }
    out.open = [text, files, size = out.size, hint = nameless > 0 && !copies ? naming_hint() : ""] {
      return bytes_of(text, files, size, hint);
    };
    return out;
  }

  /// What to do where the files are there, but their names do not tell which is which.
  std::string naming_hint() const {
    std::string all;
    for (const std::string& serial : newest_.serials)
      all += (all.empty() ? "" : ", ") + escape(std::string(base_name(serial)));
    return fmt::format(
        "a group whose disks are known by their serial numbers alone: put those into the names of the "
        "images ({})",
        all);
  }

  static SourcePtr bytes_of(const VolumeText& text, std::vector<SourcePtr> files, std::uint64_t size,
                            const std::string& hint) {
    if (!hint.empty()) throw Unsupported(hint);
    if (text.volume.migr_state != 0 &&
        (text.volume.migr_type == general_migration || text.volume.migr_type == state_change))
      throw Unsupported("a volume that is being changed from one form to another");
    RaidShape shape = shape_of(text.map);
    std::uint64_t begin = wide(text.map.pba_of_lba0_lo, text.map.pba_of_lba0_hi);
    if (begin > UINT64_MAX / kSectorSize)
      throw Malformed(fmt::format("RAID volume: it begins at sector {}, which is not possible", begin));
    for (SourcePtr& file : files) {
      if (file) file = make_slice(file, begin * kSectorSize, shape.member_size);
    }
    SourcePtr all = make_raid_array(shape, std::move(files));
    return size == 0 || size >= all->size() ? all : make_slice(all, 0, size);
  }

  Description newest_;
  std::vector<DiskFile> files_;
};

Match recognise_imsm(Probe& probe) {
  if (!probe.source()) return Match::none;
  constexpr std::size_t kBehind = 2 * kSectorSize;
  ByteView tail = probe.tail(kBehind);
  if (tail.size() < kBehind || !starts_with(tail, kSignature)) return Match::none;
  return description_bytes(*probe.source()) ? Match::front : Match::none;
}

ContainerPtr open_imsm(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  auto bytes = description_bytes(*file);
  if (!bytes) throw Malformed("RAID description: it is not there, or does not fit its sum");
  Group group(input, file, *bytes);
  const Description& all = group.description();
  std::string version(until_zero(as_text(ByteView(all.head.sig)).substr(kSignature.size())));
  return make_raid_volumes(group.volumes(),
                           {{"group", fmt::format("{:08x}", all.head.family_num)},
                            {"metadata", escape(version)},
                            {"disks", fmt::format("{} of {} found", group.disks(), all.serials.size())}},
                           {});
}

}  // namespace

Format imsm_format() {
  return {.id = "imsm",
          .name = "member of a RAID group (IMSM)",
          .family = "volume",
          .specification = "Linux mdadm, super-intel.c",
          .reads =
              "RAID 0, 1, 5 and 10; disks beside it found by the group, which is which by the serial number "
              "in the "
              "file's name",
          .lacks = "volumes that are being changed from one form to another, sectors other than 512 bytes",
          .recognise = recognise_imsm,
          .open = open_imsm,
          .records = {record_at_end<Head>("description", 2 * kSectorSize)}};
}

}  // namespace operculum

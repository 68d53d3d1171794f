// RAID groups whose disks describe them in the common disk data format. One disk opens the group: the others
// are found beside it by the group's id.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/checksum.h"
#include "base/error.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/firmware/firmware_parts.h"
#include "format/volume/ddf_records.h"
#include "format/volume/formats.h"
#include "format/volume/raid_array.h"
#include "format/volume/raid_volumes.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace ddf;

constexpr std::uint64_t kMostSection = 16 << 20;  // bytes; a million virtual disks would take 64 MiB
constexpr std::uint32_t kUnused = UINT32_MAX;

/// Whether bytes fit the sum within them: CRC-32 from 0 on, not inverted, its own four
/// bytes taken as 0xff.
bool sum_fits_record(Bytes bytes) {
  constexpr std::size_t kSumAt = 4;
  auto stated = static_cast<std::uint32_t>(load_number(bytes.data() + kSumAt, 4, std::endian::big));
  std::fill_n(bytes.begin() + kSumAt, 4, Byte{0xFF});
  return sum_fits(crc32_plain(0, bytes), stated);
}

std::optional<Header> header_at(const Source& file, std::uint64_t at) {
  Bytes bytes = read_up_to(file, at, kSectorSize);
  if (bytes.size() < kSectorSize) return std::nullopt;
  auto header = read_structure<Header>(bytes.data());
  if (header.signature != header_signature || !sum_fits_record(std::move(bytes))) return std::nullopt;
  return header;
}

std::optional<Header> anchor_of(const Source& file) {
  return file.size() < kSectorSize ? std::nullopt : header_at(file, file.size() - kSectorSize);
}

/// A set of disks, with its members' references and where it begins on each, in sectors.
struct Set {
  Configuration record;
  std::vector<std::uint32_t> members;
  std::vector<std::uint64_t> begins;
};

/// What a disk says of itself and of its group.
struct Disk {
  SourcePtr file;
  Header header;
  std::uint32_t reference = kUnused;
  std::vector<VolumeRow> volumes;
  std::vector<Set> sets;
};

class DiskReader {
 public:
  DiskReader(SourcePtr file, const Header& anchor) : disk_{std::move(file), anchor} {
    for (std::uint64_t lba : {anchor.primary_lba, anchor.secondary_lba}) {
      if (lba > disk_.file->size() / kSectorSize) continue;
      auto header = header_at(*disk_.file, lba * kSectorSize);
      if (!header || header->guid != anchor.guid) continue;
      disk_.header = *header;
      base_ = lba * kSectorSize;
      read_own();
      read_volumes();
      read_sets();
      return;
    }
    throw Malformed("DDF: neither the header nor its copy is where the anchor says");
  }

  Disk take() { return std::move(disk_); }

 private:
  Bytes section(std::uint32_t at, std::uint32_t sectors) const {
    if (at == kUnused || sectors == kUnused) return {};
    std::uint64_t size = std::min<std::uint64_t>(std::uint64_t{sectors} * kSectorSize, kMostSection);
    return read_up_to(*disk_.file, base_ + std::uint64_t{at} * kSectorSize, size);
  }

  void read_own() {
    Bytes bytes = section(disk_.header.own_at, disk_.header.own_size);
    if (bytes.size() < size_on_disk<OwnDisk>) return;
    auto own = read_structure<OwnDisk>(bytes.data());
    if (own.signature == disk_signature && sum_fits_record(std::move(bytes))) disk_.reference = own.reference;
  }

  void read_volumes() {
    Bytes bytes = section(disk_.header.volumes_at, disk_.header.volumes_size);
    if (bytes.size() < kRowsAt) return;
    if (read_structure<TableHead>(bytes.data()).signature != volumes_signature) return;
    for (std::size_t at = kRowsAt; at + kRowSize <= bytes.size(); at += kRowSize) {
      auto row = read_structure<VolumeRow>(bytes.data() + at);
      bool used = std::any_of(row.guid.begin(), row.guid.end(), [](Byte b) { return b != 0xFF; });
      if (used) disk_.volumes.push_back(row);
    }
  }

  void read_sets() {
    Bytes bytes = section(disk_.header.records_at, disk_.header.records_size);
    std::size_t size = std::size_t{disk_.header.record_size} * kSectorSize, most = disk_.header.most_members;
    if (size < kMembersAt + most * (sizeof(std::uint32_t) + sizeof(std::uint64_t))) return;
    for (std::size_t at = 0; at + size <= bytes.size(); at += size) {
      const Byte* front = bytes.data() + at;
      Set set{.record = read_structure<Configuration>(front)};
      if (set.record.signature != configuration_signature || set.record.members > most ||
          !sum_fits_record(Bytes(front, front + size)))
        continue;
      for (std::size_t i = 0; i < set.record.members; ++i) {
        set.members.push_back(
            static_cast<std::uint32_t>(load_number(front + kMembersAt + i * 4, 4, std::endian::big)));
        set.begins.push_back(load_number(front + kMembersAt + most * 4 + i * 8, 8, std::endian::big));
      }
      disk_.sets.push_back(std::move(set));
    }
  }

  Disk disk_;
  std::uint64_t base_ = 0;
};

/// A primary level with its qualifier, and the same as the kernel numbers it.
struct Level {
  std::uint8_t level, qualifier;
  int raid;
  unsigned layout;
};
constexpr std::uint8_t kAny = 0xFF;
constexpr Level kLevels[] = {
    {0x00, kAny, 0, 0},
    {0x01, kAny, 1, 0},
    {0x04, 0, 5, 4},
    {0x04, 1, 4, 0},
    {0x05, 0, 5, 1},
    {0x05, 2, 5, 0},
    {0x05, 3, 5, 2},
    {0x06, 1, 6, 8},
    {0x06, 2, 6, 9},
    {0x06, 3, 6, 10},
    {0x11, 0, 10, 0x102},
    {0x0F, kAny, RaidShape::kLinear, 0},
    {0x1F, kAny, RaidShape::kLinear, 0},
};
enum SecondaryLevel : std::uint8_t { striped = 0, mirrored = 1, concatenated = 2, spanned = 3 };

RaidShape shape_of(const Configuration& record) {
  for (const Level& one : kLevels) {
    if (one.level != record.level || (one.qualifier != kAny && one.qualifier != record.qualifier)) continue;
    RaidShape shape{.level = one.raid, .layout = one.layout, .member_size = record.blocks * kSectorSize};
    if (one.raid != 1 && one.raid != RaidShape::kLinear) shape.chunk = kSectorSize << record.stripe_shift;
    return shape;
  }
  throw Unsupported(fmt::format("RAID of level {:#x} with qualifier {}", record.level, record.qualifier));
}

/// All disks of a group that can be found.
class Group {
 public:
  Group(const Input& input, Disk own) : newest_(&disks_.emplace_back(std::move(own))) {
    const Guid guid = newest_->header.guid;
    input.sibling.each([&](const Candidate&, const SourcePtr& file) {
      auto anchor = anchor_of(*file);
      if (anchor && anchor->guid == guid) disks_.push_back(DiskReader(file, *anchor).take());
      return true;
    });
    newest_ = &*std::max_element(disks_.begin(), disks_.end(), [](const Disk& a, const Disk& b) {
      return a.header.sequence < b.header.sequence;
    });
    for (const Disk& disk : disks_) {
      if (disk.header.sequence + 1 >= newest_->header.sequence) files_.emplace(disk.reference, disk.file);
      for (const Set& set : disk.sets) {
        Set& kept = sets_[set.record.guid][set.record.set];
        if (kept.members.empty() || set.record.sequence > kept.record.sequence) kept = set;
      }
    }
  }

  std::vector<RaidVolume> volumes() const {
    std::vector<RaidVolume> out;
    for (const VolumeRow& row : newest_->volumes) {
      auto sets = sets_.find(row.guid);
      if (sets != sets_.end()) out.push_back(volume(row, sets->second));
    }
    return out;
  }

  std::size_t disks() const { return files_.size(); }

 private:
  using Sets = std::map<std::uint8_t, Set>;
  using Files = std::map<std::uint32_t, SourcePtr>;  // by the disk's reference

  RaidVolume volume(const VolumeRow& row, const Sets& sets) const {
    const Configuration& first = sets.begin()->second.record;
    std::size_t count = std::max<std::size_t>(first.sets, 1);
    bool unused = row.name[0] == 0xFF;
    RaidVolume out{.name = unused ? "" : std::string(until_zero(as_text(row.name))),
                   .size = first.size * kSectorSize};
    out.members = count * first.members;
    out.missing = (count - std::min(count, sets.size())) * first.members;
    std::size_t whole = 0;
    for (const auto& [number, set] : sets) {
      std::size_t lost = 0;
      for (std::uint32_t member : set.members) lost += files_.contains(member) ? 0 : 1;
      out.missing += lost;
      if (lost <= spare(set)) ++whole;
    }
    out.readable = count > 1 && first.secondary_level == mirrored ? whole > 0 : whole == count;
    out.type = type_of(first, count);
    out.open = [files = files_, sets, count, size = out.size] { return bytes_of(files, sets, count, size); };
    return out;
  }

  static std::size_t spare(const Set& set) {
    try {
      return redundancy(shape_of(set.record), set.members.size());
    } catch (const Unsupported&) {
      return 0;
    }
  }

  static std::string type_of(const Configuration& record, std::size_t sets) {
    try {
      std::string one = level_name(shape_of(record).level);
      return sets > 1 ? fmt::format("{} sets of {}", sets, one) : one;
    } catch (const Unsupported&) {
      return fmt::format("RAID level {:#x}", record.level);
    }
  }

  static SourcePtr bytes_of(const Files& files, const Sets& sets, std::size_t count, std::uint64_t size) {
    std::vector<SourcePtr> parts(count);
    for (const auto& [number, set] : sets) {
      if (number < count) parts[number] = array_of(files, set);
    }
    const Configuration& first = sets.begin()->second.record;
    SourcePtr all = count == 1 ? parts[0] : joined(first, std::move(parts));
    if (!all) throw Malformed("the configuration of the volume is not complete");
    return size == 0 || size >= all->size() ? all : make_slice(all, 0, size);
  }

  static SourcePtr array_of(const Files& files, const Set& set) {
    std::vector<SourcePtr> members(set.members.size());
    for (std::size_t i = 0; i < members.size(); ++i) {
      auto file = files.find(set.members[i]);
      if (file == files.end()) continue;
      if (set.begins[i] > UINT64_MAX / kSectorSize || set.record.blocks > UINT64_MAX / kSectorSize)
        throw Malformed(
            fmt::format("DDF: member {} begins at sector {}, which is not possible", i, set.begins[i]));
      members[i] = make_slice(file->second, set.begins[i] * kSectorSize, set.record.blocks * kSectorSize);
    }
    return make_raid_array(shape_of(set.record), std::move(members));
  }

  /// Sets as one: side by side in strips of the size that they have themselves, one behind the other, or as
  /// copies.
  static SourcePtr joined(const Configuration& record, std::vector<SourcePtr> parts) {
    RaidShape shape{.level = RaidShape::kLinear};
    for (const SourcePtr& part : parts) {
      if (part) shape.member_size = part->size();
    }
    switch (record.secondary_level) {
      case striped:
      case spanned:
        if (record.level > 1) throw Unsupported("striping over sets of disks with parity");
        shape.level = 0;
        shape.chunk = kSectorSize << record.stripe_shift;
        break;
      case mirrored:
        shape.level = 1;
        break;
      case concatenated:
        break;
      default:
        throw Unsupported(fmt::format("RAID of secondary level {}", record.secondary_level));
    }
    return make_raid_array(shape, std::move(parts));
  }

  std::vector<Disk> disks_;
  const Disk* newest_;
  Files files_;
  std::map<Guid, Sets> sets_;
};

Match recognise_ddf(Probe& probe) {
  constexpr std::size_t kLeast = size_on_disk<Header>;
  ByteView tail = probe.tail(kSectorSize);
  if (tail.size() < kSectorSize || tail.size() < kLeast) return Match::none;
  bool fits = read_structure<Header>(tail.data()).signature == header_signature &&
              sum_fits_record(Bytes(tail.begin(), tail.end()));
  return fits ? Match::front : Match::none;
}

ContainerPtr open_ddf(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  auto anchor = anchor_of(*file);
  if (!anchor) throw Malformed("DDF: there is no anchor in the last sector");
  Disk own = DiskReader(file, *anchor).take();
  Facts facts = {{"group", to_hex(own.header.guid)},
                 {"metadata", escape(std::string(until_zero(as_text(own.header.revision))))},
                 {"disk", hex_number(own.reference)}};
  Group group(input, std::move(own));
  facts.emplace_back("disks", fmt::format("{} found", group.disks()));
  return make_raid_volumes(group.volumes(), std::move(facts), {});
}

}  // namespace

Format ddf_format() {
  return {
      .id = "ddf",
      .name = "member of a RAID group (DDF)",
      .family = "volume",
      .specification = "SNIA Common RAID Disk Data Format 2.0",
      .reads =
          "RAID 0, 1, 4, 5, 6, 1E and concatenations, striped, joined and mirrored sets; disks beside it "
          "found "
          "by the group's id; missing ones computed from parity or copies",
      .lacks =
          "RAID 3, 5E, 5EE, MDF and offset 1E, sets of parity RAID in strips, sectors other than 512 bytes",
      .recognise = recognise_ddf,
      .open = open_ddf,
      .records = {record_at_end<Header>("anchor header", kSectorSize)}};
}

}  // namespace operculum

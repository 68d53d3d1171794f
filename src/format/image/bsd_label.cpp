// BSD disk labels: geometry and up to 22 partitions, lettered from a, in either byte order, in the second
// sector or 64 bytes into the first (disklabel(5), <sys/disklabel.h>). The mark stands twice, and all 16-bit
// words up to the last partition exclusive-ored are 0. Partition c is the whole; its start tells where a
// slice's offsets count from.
#include <fmt/format.h>

#include "base/fields.h"
#include "base/text.h"
#include "format/image/formats.h"
#include "format/image/partition_table.h"

namespace operculum {
namespace {

constexpr std::uint32_t kMark = 0x82564557;
constexpr std::size_t kSectorSizeAt = 40, kPackNameAt = 24, kSecondMarkAt = 132, kCountAt = 138,
                      kPartitionsAt = 148;
constexpr std::size_t kPartitionSize = 16, kMostPartitions = 22, kWhole = 2;
constexpr std::size_t kLabelSize = kPartitionsAt + kMostPartitions * kPartitionSize;
constexpr std::uint64_t kPlaces[] = {512, 64, 0};

std::string_view type_name(std::uint8_t type) {
  static constexpr std::string_view kNames[] = {
      "unused", "swap",   "Version 6", "Version 7", "System V", "4.1BSD",   "Eighth Edition",
      "4.2BSD", "MS-DOS", "4.4LFS",    "other",     "HPFS",     "ISO 9660", "boot",
      "ADOS",   "HFS",    "ADFS",      "ext2",      "CCD",      "RAID",     "NTFS"};
  if (type == 27) return "ZFS";
  return type < std::size(kNames) ? kNames[type] : "other";
}

template <typename Fields>
bool is_label(ByteView raw) {
  if (raw.size() < kPartitionsAt) return false;
  Fields f(raw, "BSD disk label");
  std::size_t count = f.u16(kCountAt), end = kPartitionsAt + count * kPartitionSize;
  if (f.u32(0) != kMark || f.u32(kSecondMarkAt) != kMark || count > kMostPartitions || end > raw.size())
    return false;
  std::uint16_t sum = 0;
  for (std::size_t at = 0; at < end; at += 2) sum ^= f.u16(at);
  return sum == 0;
}

struct Found {
  std::uint64_t at;
  bool big;
};

std::optional<Found> find_label(const std::function<Bytes(std::uint64_t, std::size_t)>& read) {
  for (std::uint64_t at : kPlaces) {
    Bytes raw = read(at, kLabelSize);
    if (is_label<LittleFields>(raw)) return Found{at, false};
    if (is_label<BigFields>(raw)) return Found{at, true};
  }
  return std::nullopt;
}

template <typename Fields>
PartitionTable read_label(ByteView raw, std::uint64_t disk_size) {
  Fields f(raw, "BSD disk label");
  PartitionTable table;
  std::uint64_t sector = f.u32(kSectorSizeAt);
  if (sector < 512 || sector > 65536 || (sector & (sector - 1)) != 0)
    throw Malformed(fmt::format("BSD disk label: sectors of {} bytes are not possible", sector));
  table.sector = sector;
  std::string_view name = f.text(kPackNameAt, 16);
  name = until_zero(name);
  if (!name.empty()) table.facts.emplace_back("label", std::string(name));
  auto start_of = [&](std::size_t i) { return f.u32(kPartitionsAt + i * kPartitionSize + 4) * sector; };
  auto length_of = [&](std::size_t i) { return f.u32(kPartitionsAt + i * kPartitionSize) * sector; };
  std::size_t count = f.u16(kCountAt);
  // A label within a slice counts from the disk's first sector.
  bool from_disk = count > kWhole && start_of(kWhole) > 0 && length_of(kWhole) <= disk_size &&
                   start_of(kWhole) + length_of(kWhole) > disk_size;
  std::uint64_t base = from_disk ? start_of(kWhole) : 0;
  for (std::size_t i = 0; i < count; ++i) {
    std::uint8_t type = f.u8(kPartitionsAt + i * kPartitionSize + 12);
    if (i == kWhole || length_of(i) == 0 || start_of(i) < base) continue;
    std::string letter(1, static_cast<char>('a' + i));
    table.partitions.push_back({letter, "", std::string(type_name(type)), start_of(i) - base, length_of(i)});
  }
  return table;
}

Match recognise_bsd_label(Probe& probe) {
  return find_label([&](std::uint64_t at, std::size_t count) { return probe.at(at, count); }) ? Match::inside
                                                                                              : Match::none;
}

ContainerPtr open_bsd_label(const Input& input, OpenContext& context) {
  SourcePtr disk = random_access(*input.content, context.spool);
  auto read = [&](std::uint64_t at, std::size_t count) { return read_up_to(*disk, at, count); };
  auto found = find_label(read);
  if (!found) throw Malformed("BSD disk label: its marks or its checksum are wrong");
  Bytes raw = read(found->at, kLabelSize);
  PartitionTable table =
      found->big ? read_label<BigFields>(raw, disk->size()) : read_label<LittleFields>(raw, disk->size());
  table.taken.emplace_back(0, found->at + kLabelSize);
  return make_partitions(std::move(disk), std::move(table));
}

}  // namespace

Format bsd_label_format() {
  return {.id = "bsd-label",
          .name = "disk with a BSD label",
          .family = "partition table",
          .specification = "disklabel(5), <sys/disklabel.h>",
          .reads = "up to 22 partitions in either byte order, labels of slices, unallocated ranges",
          .lacks = "",
          .suffixes = {},
          .recognise = recognise_bsd_label,
          .open = open_bsd_label};
}

}  // namespace operculum

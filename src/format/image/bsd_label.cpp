// BSD disk labels: geometry and up to 22 partitions, lettered from a, in either byte order, in the second
// sector or 64 bytes into the first (disklabel(5), <sys/disklabel.h>). The mark stands twice, and all 16-bit
// words up to the last partition exclusive-ored are 0. Partition c is the whole; its start tells where a
// slice's offsets count from.
#include <fmt/format.h>

#include "base/structure.h"
#include "base/text.h"
#include "container/probe_reader.h"
#include "container/record_fields.h"
#include "format/image/formats.h"
#include "format/image/partition_table.h"

namespace operculum {
namespace {

constexpr std::uint32_t kMark = 0x82564557;
constexpr std::size_t kMostPartitions = 22, kWhole = 2;
constexpr std::uint64_t kPlaces[] = {512, 64, 0};

/// What begins a label; the partitions follow.
struct LabelHead {
  std::uint32_t magic = 0, secsize = 0, magic2 = 0;
  std::uint16_t checksum = 0, npartitions = 0;
  std::array<Byte, 16> packname{};
  static constexpr auto layout = little_endian(
      field("d_magic", &LabelHead::magic), from_byte<24>(), field("d_packname", &LabelHead::packname),
      field("d_secsize", &LabelHead::secsize), from_byte<132>(), field("d_magic2", &LabelHead::magic2),
      field("d_checksum", &LabelHead::checksum), field("d_npartitions", &LabelHead::npartitions));
  static constexpr std::size_t size = 148;  ///< in bytes, with what is not read
};

/// A partition; its numbers are sectors.
struct LabelRow {
  std::uint32_t length = 0, start = 0;
  std::uint8_t type = 0;
  static constexpr auto layout =
      little_endian(field("p_size", &LabelRow::length), field("p_offset", &LabelRow::start), from_byte<12>(),
                    field("p_fstype", &LabelRow::type));
  static constexpr std::size_t size = 16;
};
constexpr std::size_t kLabelSize = LabelHead::size + kMostPartitions * LabelRow::size;

std::string_view type_name(std::uint8_t type) {
  static constexpr std::string_view kNames[] = {
      "unused", "swap",   "Version 6", "Version 7", "System V", "4.1BSD",   "Eighth Edition",
      "4.2BSD", "MS-DOS", "4.4LFS",    "other",     "HPFS",     "ISO 9660", "boot",
      "ADOS",   "HFS",    "ADFS",      "ext2",      "CCD",      "RAID",     "NTFS"};
  if (type == 27) return "ZFS";
  return type < std::size(kNames) ? kNames[type] : "other";
}

bool is_label(ByteView raw, std::endian order) {
  if (raw.size() < LabelHead::size) return false;
  auto head = read_structure<LabelHead>(raw.data(), order);
  std::size_t end = LabelHead::size + head.npartitions * LabelRow::size;
  if (head.magic != kMark || head.magic2 != kMark || head.npartitions > kMostPartitions || end > raw.size())
    return false;
  std::uint64_t sum = 0;
  for (std::size_t at = 0; at < end; at += 2) sum ^= load_number(raw.data() + at, 2, order);
  return sum == 0;
}

struct Found {
  std::uint64_t at;
  std::endian order;
};

template <typename Read>
std::optional<Found> find_label(Read read) {
  for (std::uint64_t at : kPlaces) {
    Bytes raw = read(at, kLabelSize);
    for (std::endian order : {std::endian::little, std::endian::big})
      if (is_label(raw, order)) return Found{at, order};
  }
  return std::nullopt;
}

PartitionTable read_label(ByteView raw, std::endian order, std::uint64_t disk_size) {
  auto head = read_structure<LabelHead>(raw.data(), order);
  PartitionTable table;
  std::uint64_t sector = head.secsize;
  if (sector < 512 || sector > 65536 || (sector & (sector - 1)) != 0)
    throw Malformed(fmt::format("BSD disk label: sectors of {} bytes are not possible", sector));
  table.sector = sector;
  std::string_view name = until_zero(as_text(head.packname));
  if (!name.empty()) table.facts.emplace_back("label", std::string(name));
  std::vector<LabelRow> rows;
  for (std::size_t i = 0; i < head.npartitions; ++i)
    rows.push_back(read_structure<LabelRow>(raw.data() + LabelHead::size + i * LabelRow::size, order));
  // A label within a slice counts from the disk's first sector.
  std::uint64_t base = 0;
  if (rows.size() > kWhole) {
    std::uint64_t start = rows[kWhole].start * sector, length = rows[kWhole].length * sector;
    if (length <= disk_size && start + length > disk_size) base = start;
  }
  for (std::size_t i = 0; i < rows.size(); ++i) {
    std::uint64_t start = rows[i].start * sector;
    if (i == kWhole || rows[i].length == 0 || start < base) continue;
    std::string letter(1, static_cast<char>('a' + i));
    table.partitions.push_back(
        {letter, "", std::string(type_name(rows[i].type)), start - base, rows[i].length * sector});
  }
  return table;
}

Match recognise_bsd_label(Probe& probe) {
  return find_label(reader_of(probe)) ? Match::inside : Match::none;
}

ContainerPtr open_bsd_label(const Input& input, OpenContext& context) {
  SourcePtr disk = random_access(*input.content, context.spool);
  auto read = [&](std::uint64_t at, std::size_t count) { return read_up_to(*disk, at, count); };
  auto found = find_label(read);
  if (!found) throw Malformed("BSD disk label: its marks or its checksum are wrong");
  Bytes raw = read(found->at, kLabelSize);
  PartitionTable table = read_label(raw, found->order, disk->size());
  table.taken.emplace_back(0, found->at + kLabelSize);
  return make_partitions(std::move(disk), std::move(table));
}

PlacedFields shown_label(Probe& probe) {
  auto found = find_label(reader_of(probe));
  return found ? fields_at<LabelHead>(probe, found->at, found->order) : PlacedFields{};
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
          .open = open_bsd_label,
          .records = {{"label", shown_label}}};
}

}  // namespace operculum

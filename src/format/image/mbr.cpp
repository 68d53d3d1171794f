// The partition table of a master boot record, with extended partitions; as commonly documented, and in UEFI
// specification 2.10, section 5.2.
#include <fmt/format.h>

#include <algorithm>

#include "container/record_fields.h"
#include "format/image/formats.h"
#include "format/image/partition_table.h"

namespace operculum {
namespace {

constexpr std::uint64_t kSector = 512;
constexpr std::size_t kRows = 4;
constexpr unsigned kMostLogical = 256;

struct TypeName {
  std::uint8_t type;
  std::string_view name;
};
constexpr TypeName kTypes[] = {
    {0x01, "FAT12"},
    {0x04, "FAT16"},
    {0x05, "extended"},
    {0x06, "FAT16"},
    {0x07, "NTFS or exFAT"},
    {0x0B, "FAT32"},
    {0x0C, "FAT32"},
    {0x0E, "FAT16"},
    {0x0F, "extended"},
    {0x11, "hidden FAT12"},
    {0x14, "hidden FAT16"},
    {0x16, "hidden FAT16"},
    {0x17, "hidden NTFS or exFAT"},
    {0x1B, "hidden FAT32"},
    {0x1C, "hidden FAT32"},
    {0x1E, "hidden FAT16"},
    {0x27, "recovery"},
    {0x42, "dynamic disk"},
    {0x82, "Linux swap"},
    {0x83, "Linux"},
    {0x85, "extended"},
    {0x8E, "Linux LVM"},
    {0xA5, "BSD"},
    {0xA6, "BSD"},
    {0xA9, "BSD"},
    {0xAB, "boot"},
    {0xAF, "HFS+"},
    {0xDA, "data"},
    {0xEE, "GPT protective"},
    {0xEF, "EFI system"},
    {0xFD, "Linux RAID"},
};

/// Follows the chain of extended boot records, each of which holds one logical partition.
void read_logical(const Source& disk, std::uint64_t first, PartitionTable& table) {
  std::uint64_t at = first;
  for (unsigned number = 5; number < 5 + kMostLogical; ++number) {
    if (at * kSector >= disk.size()) {
      table.findings.push_back(
          {Finding::Level::fault,
           fmt::format(
               "the extended partition's record at sector {} lies behind the end; the image is cut short",
               at)});
      return;
    }
    auto rows = read_mbr(read_up_to(disk, at * kSector, kSector));
    if (!rows) {
      table.findings.push_back(
          {Finding::Level::fault,
           fmt::format("the extended partition's record at sector {} is damaged or missing", at)});
      return;
    }
    table.taken.emplace_back(at * kSector, (at + 1) * kSector);
    const MbrRow& own = (*rows)[0];
    if (own.type != 0 && own.count > 0)
      table.partitions.push_back({std::to_string(number), "", mbr_type_name(own.type),
                                  (at + own.start) * kSector, own.count * kSector});
    const MbrRow& next = (*rows)[1];
    if (!is_extended(next.type) || next.count == 0) return;
    if (first + next.start <= at) {
      table.findings.push_back({Finding::Level::fault,
                                "the chain of extended partitions leads backwards; the rest is not listed"});
      return;
    }
    at = first + next.start;
  }
}

Match recognise_mbr(Probe& probe) {
  ByteView head = probe.head(kSector);
  auto rows = read_mbr(head);
  if (!rows) return Match::none;
  auto size = probe.size();
  bool any = std::any_of(rows->begin(), rows->end(),
                         [](const MbrRow& row) { return row.type != 0 && row.count > 0; });
  bool fits = std::all_of(rows->begin(), rows->end(),
                          [&](const MbrRow& row) { return !size || row.start * kSector < *size; });
  return any && fits ? Match::front : Match::none;
}

ContainerPtr open_mbr(const Input& input, OpenContext& context) {
  SourcePtr disk = random_access(*input.content, context.spool);
  auto rows = read_mbr(read_exactly(*disk, 0, kSector, "MBR"));
  if (!rows) throw Malformed("MBR: the table makes no sense");
  PartitionTable table;
  table.taken.emplace_back(0, kSector);
  table.facts.emplace_back("sector", fmt::format("{} bytes", kSector));
  for (unsigned i = 0; i < 4; ++i) {
    const MbrRow& row = (*rows)[i];
    if (row.type == 0 || row.count == 0) continue;
    if (is_extended(row.type)) {
      read_logical(*disk, row.start, table);
    } else {
      table.partitions.push_back(
          {std::to_string(i + 1), "", mbr_type_name(row.type), row.start * kSector, row.count * kSector});
    }
  }
  return make_partitions(std::move(disk), std::move(table));
}

}  // namespace

std::optional<std::vector<MbrRow>> read_mbr(ByteView sector) {
  if (sector.size() < kSector || sector[510] != 0x55 || sector[511] != 0xAA) return std::nullopt;
  std::vector<MbrRow> rows;
  for (std::size_t i = 0; i < kRows; ++i) {
    auto row = read_structure<MbrRow>(sector.data() + mbr_rows_at + i * mbr_row_size);
    if ((row.status & 0x7F) != 0 || (row.type != 0 && row.count > 0 && row.start == 0)) return std::nullopt;
    rows.push_back(row);
  }
  return rows;
}

std::string mbr_type_name(std::uint8_t type) {
  auto found = std::find_if(std::begin(kTypes), std::end(kTypes),
                            [&](const TypeName& one) { return one.type == type; });
  return found != std::end(kTypes) ? std::string(found->name) : fmt::format("type {:#04x}", type);
}

bool is_extended(std::uint8_t type) {
  return type == 0x05 || type == 0x0F || type == 0x85;
}

Format mbr_format() {
  return {.id = "mbr",
          .name = "disk with an MBR partition table",
          .family = "partition table",
          .specification = "UEFI specification 2.10, section 5.2",
          .reads = "primary and logical partitions, unallocated ranges",
          .lacks = "sectors of another size than 512 bytes",
          .suffixes = {".img", ".raw", ".dd"},
          .recognise = recognise_mbr,
          .open = open_mbr,
          .records = {record_at<MbrRow>("partition 1", mbr_rows_at),
                      record_at<MbrRow>("partition 2", mbr_rows_at + mbr_row_size),
                      record_at<MbrRow>("partition 3", mbr_rows_at + 2 * mbr_row_size),
                      record_at<MbrRow>("partition 4", mbr_rows_at + 3 * mbr_row_size)}};
}

}  // namespace operculum

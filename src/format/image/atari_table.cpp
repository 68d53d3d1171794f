// Atari hard disks: the root sector has four partitions with identifiers of three letters; one called XGM
// leads to further root sectors (AHDI 3.00 release notes, "Hard disk partitioning"). There is no mark: what
// is taken for a table must have sensible rows only.
#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "base/text.h"
#include "format/image/formats.h"
#include "format/image/partition_table.h"

namespace operculum {
namespace {

constexpr std::size_t kSectorSize = 512, kDiskSizeAt = 0x1C2, kRowsAt = 0x1C6, kRowSize = 12, kRows = 4;
constexpr std::size_t kBadListAt = 0x1F6;
constexpr Byte kExists = 1;
constexpr std::string_view kIds[] = {"GEM", "BGM", "XGM", "LNX", "SWP", "RAW",
                                     "MIX", "MNX", "UNX", "F32", "QWA"};
constexpr std::string_view kExtended = "XGM";
constexpr int kMostChained = 128;

struct Row {
  bool exists;
  std::string id;
  std::uint64_t start, count;  // sectors
};

std::vector<Row> rows_of(ByteView sector) {
  BigFields f(sector, "Atari root sector");
  std::vector<Row> rows;
  for (std::size_t i = 0; i < kRows; ++i) {
    std::size_t at = kRowsAt + i * kRowSize;
    rows.push_back({(f.u8(at) & kExists) != 0, std::string(f.text(at + 1, 3)), f.u32(at + 4), f.u32(at + 8)});
  }
  return rows;
}

std::string_view type_name(std::string_view id) {
  return id == "GEM"   ? "GEMDOS, up to 16 MiB"
         : id == "BGM" ? "GEMDOS, larger"
         : id == "LNX" ? "Linux"
         : id == "SWP" ? "swap"
         : id == "RAW" ? "raw"
         : id == "F32" ? "FAT32"
                       : "other";
}

/// Every row that is there must lie on the disk, behind those before it, under a known identifier.
bool is_table(ByteView sector, std::uint64_t disk_size) {
  if (sector.size() < kSectorSize) return false;
  BigFields f(sector, "Atari root sector");
  std::uint64_t sectors = f.u32(kDiskSizeAt), end = 1, there = 0;
  if (sectors == 0 || sectors > disk_size / kSectorSize) return false;
  for (const Row& row : rows_of(sector)) {
    if (!row.exists) continue;
    bool known = std::find(std::begin(kIds), std::end(kIds), row.id) != std::end(kIds);
    if (!known || row.start < end || row.count == 0 || row.start + row.count > sectors) return false;
    end = row.start + row.count;
    ++there;
  }
  std::uint64_t bad = f.u32(kBadListAt), bad_count = f.u32(kBadListAt + 4);
  return there > 0 && bad + bad_count <= sectors;
}

Match recognise_atari_table(Probe& probe) {
  auto size = probe.size();
  return size && is_table(probe.head(kSectorSize), *size) ? Match::inside : Match::none;
}

/// Each further root sector has one partition, counted from itself, and a row that leads on from the first of
/// them.
void read_chain(const Source& disk, std::uint64_t first, PartitionTable& table) {
  std::uint64_t at = first;
  for (int chained = 0; chained < kMostChained; ++chained) {
    Bytes raw = read_up_to(disk, at * kSectorSize, kSectorSize);
    if (raw.size() < kSectorSize) break;
    table.taken.emplace_back(at * kSectorSize, (at + 1) * kSectorSize);
    std::uint64_t next = 0;
    for (const Row& row : rows_of(raw)) {
      if (!row.exists) continue;
      if (row.id == kExtended) {
        next = first + row.start;
      } else {
        table.partitions.push_back({std::to_string(table.partitions.size() + 1), "",
                                    std::string(type_name(row.id)), (at + row.start) * kSectorSize,
                                    row.count * kSectorSize});
      }
    }
    if (next <= at) return;
    at = next;
  }
  table.findings.push_back({Finding::Level::fault, "the chain of further partitions does not end"});
}

ContainerPtr open_atari_table(const Input& input, OpenContext& context) {
  SourcePtr disk = random_access(*input.content, context.spool);
  Bytes raw = read_exactly(*disk, 0, kSectorSize, "Atari root sector");
  if (!is_table(raw, disk->size()))
    throw Malformed("Atari root sector: none of its rows is a partition that lies on the disk");
  PartitionTable table;
  table.taken.emplace_back(0, kSectorSize);
  for (const Row& row : rows_of(raw)) {
    if (!row.exists) continue;
    if (row.id == kExtended) {
      read_chain(*disk, row.start, table);
    } else {
      table.partitions.push_back({std::to_string(table.partitions.size() + 1), "",
                                  std::string(type_name(row.id)), row.start * kSectorSize,
                                  row.count * kSectorSize});
    }
  }
  return make_partitions(std::move(disk), std::move(table));
}

}  // namespace

Format atari_table_format() {
  return {.id = "atari-table",
          .name = "disk with an Atari partition table",
          .family = "partition table",
          .specification = "AHDI 3.00",
          .reads = "the four partitions of the root sector and those behind XGM, unallocated ranges",
          .lacks = "eight further rows of other drivers",
          .suffixes = {},
          .recognise = recognise_atari_table,
          .open = open_atari_table};
}

}  // namespace operculum

// Atari hard disks: the root sector has four partitions with identifiers of three letters; one called XGM
// leads to further root sectors (AHDI 3.00 release notes, "Hard disk partitioning"). There is no mark: what
// is taken for a table must have sensible rows only.
#include <fmt/format.h>

#include <algorithm>

#include "base/structure.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/image/formats.h"
#include "format/image/partition_table.h"

namespace operculum {
namespace {

constexpr std::size_t kSectorSize = 512, kRows = 4;
constexpr Byte kExists = 1;
constexpr std::string_view kIds[] = {"GEM", "BGM", "XGM", "LNX", "SWP", "RAW",
                                     "MIX", "MNX", "UNX", "F32", "QWA"};
constexpr std::string_view kExtended = "XGM";
constexpr int kMostChained = 128;

/// The root sector, in sectors of the disk; its four rows lie between the two parts.
struct RootSector {
  std::uint32_t size = 0, bad_start = 0, bad_count = 0;
  static constexpr auto layout =
      big_endian(from_byte<0x1C2>(), field("hd_siz", &RootSector::size), from_byte<0x1F6>(),
                 field("bsl_st", &RootSector::bad_start), field("bsl_cnt", &RootSector::bad_count));
  static constexpr std::size_t rows_at = 0x1C6;
};

struct Row {
  std::uint8_t flag = 0;
  std::array<Byte, 3> letters{};
  std::uint32_t start = 0, count = 0;  ///< sectors
  static constexpr auto layout = big_endian(field("p_flg", &Row::flag), field("p_id", &Row::letters),
                                            field("p_st", &Row::start), field("p_siz", &Row::count));

  bool exists() const { return (flag & kExists) != 0; }
  std::string_view id() const { return as_text(letters); }
};

std::vector<Row> rows_of(ByteView sector) {
  std::vector<Row> rows;
  for (std::size_t i = 0; i < kRows; ++i)
    rows.push_back(read_structure<Row>(sector.data() + RootSector::rows_at + i * size_on_disk<Row>));
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
  auto root = read_structure<RootSector>(sector.data());
  std::uint64_t sectors = root.size, end = 1, there = 0;
  if (sectors == 0 || sectors > disk_size / kSectorSize) return false;
  for (const Row& row : rows_of(sector)) {
    if (!row.exists()) continue;
    bool known = std::find(std::begin(kIds), std::end(kIds), row.id()) != std::end(kIds);
    std::uint64_t behind = std::uint64_t{row.start} + row.count;
    if (!known || row.start < end || row.count == 0 || behind > sectors) return false;
    end = behind;
    ++there;
  }
  return there > 0 && std::uint64_t{root.bad_start} + root.bad_count <= sectors;
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
      if (!row.exists()) continue;
      if (row.id() == kExtended) {
        next = first + row.start;
      } else {
        table.partitions.push_back({std::to_string(table.partitions.size() + 1), "",
                                    std::string(type_name(row.id())), (at + row.start) * kSectorSize,
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
    if (!row.exists()) continue;
    if (row.id() == kExtended) {
      read_chain(*disk, row.start, table);
    } else {
      table.partitions.push_back({std::to_string(table.partitions.size() + 1), "",
                                  std::string(type_name(row.id())), std::uint64_t{row.start} * kSectorSize,
                                  std::uint64_t{row.count} * kSectorSize});
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
          .open = open_atari_table,
          .records = {record_at<RootSector>("root sector", 0)}};
}

}  // namespace operculum

// The Amiga's disks: a rigid disk block in one of the first 16 blocks leads to a chain of partition blocks
// ("Amiga ROM Kernel Reference Manual: Devices", hard disks; Linux include/uapi/linux/affs_hardblocks.h).
// Numbers are big-endian, the words of a block sum up to 0.
#include <fmt/format.h>

#include <set>

#include "base/checked.h"
#include "base/checksum.h"
#include "base/structure.h"
#include "base/text.h"
#include "container/probe_reader.h"
#include "container/record_fields.h"
#include "format/image/formats.h"
#include "format/image/partition_table.h"

namespace operculum {
namespace {

constexpr std::string_view kDiskMark = "RDSK", kPartMark = "PART";
constexpr std::uint64_t kSector = 512, kPlaces = 16, kWord = 4;
constexpr std::uint32_t kNone = 0xFFFFFFFF;

struct DiskBlock {
  std::array<Byte, 4> id{};
  std::uint32_t words = 0, block_bytes = 0, partitions = 0, cylinders = 0, sectors = 0, heads = 0, first = 0,
                last = 0;
  static constexpr auto layout =
      big_endian(field("rdb_ID", &DiskBlock::id), field("rdb_SummedLongs", &DiskBlock::words),
                 from_byte<16>(), field("rdb_BlockBytes", &DiskBlock::block_bytes), from_byte<28>(),
                 field("rdb_PartitionList", &DiskBlock::partitions), from_byte<64>(),
                 field("rdb_Cylinders", &DiskBlock::cylinders), field("rdb_Sectors", &DiskBlock::sectors),
                 field("rdb_Heads", &DiskBlock::heads), from_byte<128>(),
                 field("rdb_RDBBlocksLo", &DiskBlock::first), field("rdb_RDBBlocksHi", &DiskBlock::last));
};

struct PartBlock {
  std::array<Byte, 4> id{};
  std::uint32_t words = 0, next = 0;
  std::array<Byte, 32> name{};
  std::uint32_t size_block = 0, surfaces = 0, blocks_per_track = 0, low_cylinder = 0, high_cylinder = 0;
  std::array<Byte, 4> type{};
  static constexpr auto layout =
      big_endian(field("pb_ID", &PartBlock::id), field("pb_SummedLongs", &PartBlock::words), from_byte<16>(),
                 field("pb_Next", &PartBlock::next), from_byte<36>(), field("pb_DriveName", &PartBlock::name),
                 from_byte<132>(), field("de_SizeBlock", &PartBlock::size_block), from_byte<140>(),
                 field("de_Surfaces", &PartBlock::surfaces), from_byte<148>(),
                 field("de_BlocksPerTrack", &PartBlock::blocks_per_track), from_byte<164>(),
                 field("de_LowCyl", &PartBlock::low_cylinder), field("de_HighCyl", &PartBlock::high_cylinder),
                 from_byte<192>(), field("de_DosType", &PartBlock::type));
};

/// Whether a block has the mark, and the words that it says are summed make 0.
template <typename S>
std::optional<S> block_in(ByteView raw, std::string_view mark) {
  if (raw.size() < kSector) return std::nullopt;
  auto out = read_structure<S>(raw.data());
  if (as_text(out.id) != mark || out.words > raw.size() / kWord || out.words * kWord < size_on_disk<S>)
    return std::nullopt;
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < out.words; ++i)
    sum += static_cast<std::uint32_t>(load_number(raw.data() + i * kWord, kWord, std::endian::big));
  return sum_fits(sum, 0) ? std::optional(out) : std::nullopt;
}

template <typename Read>
std::optional<std::pair<std::uint64_t, DiskBlock>> find_disk_block(Read read) {
  Bytes raw = read(0, kPlaces * kSector);
  for (std::uint64_t i = 0; i < kPlaces && (i + 1) * kSector <= raw.size(); ++i)
    if (auto found = block_in<DiskBlock>(ByteView(raw).subspan(i * kSector, kSector), kDiskMark))
      return std::pair(i, *found);
  return std::nullopt;
}

/// "DOS\1": the last byte is a number.
std::string type_name(ByteView type) {
  return fmt::format("{}\\{}", escape(as_text(type.first(3))), type[3]);
}

Match recognise_amiga_table(Probe& probe) {
  return find_disk_block(reader_of(probe)) ? Match::front : Match::none;
}

ContainerPtr open_amiga_table(const Input& input, OpenContext& context) {
  SourcePtr disk = random_access(*input.content, context.spool);
  auto found =
      find_disk_block([&](std::uint64_t at, std::size_t count) { return read_up_to(*disk, at, count); });
  if (!found) throw Malformed("Amiga disk: there is no rigid disk block in the first 16 blocks");
  const DiskBlock& head = found->second;
  std::uint64_t block = head.block_bytes;
  if (block < kSector || block > 65536 || block % kSector != 0)
    refuse_field("Amiga rigid disk block", found->first * kSector, &DiskBlock::block_bytes, "512 to 65536",
                 fmt::format("{}", block));
  PartitionTable table;
  table.sector = block;
  table.facts = {{"geometry", fmt::format("{} cylinders, {} heads, {} sectors", head.cylinders, head.heads,
                                          head.sectors)}};
  table.taken.emplace_back(0, (std::uint64_t{head.last} + 1) * block);
  std::set<std::uint32_t> seen;
  for (std::uint32_t next = head.partitions; next != kNone;) {
    if (!seen.insert(next).second) {
      table.findings.push_back({Finding::Level::fault, "the chain of partitions leads in a circle"});
      break;
    }
    auto part = block_in<PartBlock>(read_up_to(*disk, next * block, kSector), kPartMark);
    if (!part) {
      table.findings.push_back(
          {Finding::Level::fault,
           fmt::format("there is no partition block at offset {}; what follows in the chain is lost",
                       next * block)});
      break;
    }
    std::uint64_t cylinder =
        checked_mul(checked_mul(part->surfaces, part->blocks_per_track, "a cylinder's size"),
                    part->size_block * kWord, "a cylinder's size");
    std::uint64_t start = checked_mul(cylinder, part->low_cylinder, "a partition's place"),
                  end = checked_mul(cylinder, std::uint64_t{part->high_cylinder} + 1, "a partition's end");
    std::size_t length = std::min<std::size_t>(part->name[0], part->name.size() - 1);
    table.partitions.push_back({std::to_string(table.partitions.size() + 1),
                                std::string(as_text(ByteView(part->name).subspan(1, length))),
                                type_name(part->type), start, end - std::min(start, end)});
    next = part->next;
  }
  return make_partitions(std::move(disk), std::move(table));
}

PlacedFields shown_disk_block(Probe& probe) {
  auto found = find_disk_block(reader_of(probe));
  return found ? fields_at<DiskBlock>(probe, found->first * kSector) : PlacedFields{};
}

}  // namespace

Format amiga_table_format() {
  return {.id = "amiga-table",
          .name = "disk with an Amiga partition table",
          .family = "partition table",
          .specification = "Amiga ROM Kernel Reference Manual: Devices; Linux affs_hardblocks.h",
          .reads = "all partitions with their names and types, unallocated ranges",
          .lacks = "",
          .suffixes = {},
          .recognise = recognise_amiga_table,
          .open = open_amiga_table,
          .records = {{"rigid disk block", shown_disk_block}}};
}

}  // namespace operculum

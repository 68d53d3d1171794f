// Apple partition maps: a driver descriptor in block 0, then one block for each partition (Inside Macintosh:
// Devices, chapter 3).
#include <fmt/format.h>

#include <algorithm>

#include "base/structure.h"
#include "base/text.h"
#include "container/probe_reader.h"
#include "container/record_fields.h"
#include "format/image/formats.h"
#include "format/image/partition_table.h"

namespace operculum {
namespace {

constexpr std::uint16_t kDriverMark = 0x4552, kMapMark = 0x504D;  // "ER", "PM"
constexpr std::uint32_t kMostPartitions = 4096;

/// Block 0, and a partition's block.
struct DriverDescriptor {
  std::uint16_t signature = 0, block_size = 0;
  static constexpr auto layout = big_endian(field("sbSig", &DriverDescriptor::signature),
                                            field("sbBlkSize", &DriverDescriptor::block_size));
};
struct MapEntry {
  std::uint16_t signature = 0;
  std::uint32_t map_blocks = 0, start = 0, count = 0;
  std::array<Byte, 32> name{}, type{};
  static constexpr auto layout = big_endian(
      field("pmSig", &MapEntry::signature), from_byte<4>(), field("pmMapBlkCnt", &MapEntry::map_blocks),
      field("pmPyPartStart", &MapEntry::start), field("pmPartBlkCnt", &MapEntry::count),
      field("pmPartName", &MapEntry::name), field("pmParType", &MapEntry::type));
};
constexpr std::size_t kEntrySize = 512;

/// The block size by which the map can be read; 0 when there is none.
std::uint64_t block_size(const std::function<Bytes(std::uint64_t, std::size_t)>& read) {
  Bytes head = read(0, size_on_disk<DriverDescriptor>);
  if (head.size() < size_on_disk<DriverDescriptor>) return 0;
  auto driver = read_structure<DriverDescriptor>(head.data());
  if (driver.signature != kDriverMark) return 0;
  for (std::uint64_t size : {std::uint64_t{512}, std::uint64_t{driver.block_size}}) {
    Bytes first = size >= 512 ? read(size, size_on_disk<MapEntry>) : Bytes();
    if (first.size() == size_on_disk<MapEntry> &&
        read_structure<MapEntry>(first.data()).signature == kMapMark)
      return size;
  }
  return 0;
}

std::string text_of(ByteView raw) {
  return std::string(until_zero(as_text(raw)));
}

Match recognise_apple_map(Probe& probe) {
  return block_size(reader_of(probe)) != 0 ? Match::front : Match::none;
}

ContainerPtr open_apple_map(const Input& input, OpenContext& context) {
  SourcePtr disk = random_access(*input.content, context.spool);
  std::uint64_t block =
      block_size([&](std::uint64_t at, std::size_t count) { return read_up_to(*disk, at, count); });
  if (block == 0) throw Malformed("Apple partition map: its marks are missing");
  PartitionTable table;
  table.sector = block;
  table.facts.emplace_back("block", fmt::format("{} bytes", block));
  table.taken.emplace_back(0, block);
  std::uint32_t count = 1;
  for (std::uint32_t i = 0; i < count; ++i) {
    Bytes raw = read_up_to(*disk, (i + 1) * block, kEntrySize);
    auto entry = raw.size() < kEntrySize ? MapEntry() : read_structure<MapEntry>(raw.data());
    if (entry.signature != kMapMark) {
      table.findings.push_back(
          {Finding::Level::fault, fmt::format("the partition map ends after {} of {} entries", i, count)});
      break;
    }
    count = std::min(entry.map_blocks, kMostPartitions);
    std::string name = text_of(entry.name), type = text_of(entry.type);
    if (type == "Apple_Free") continue;  // becomes an unallocated range
    table.partitions.push_back({std::to_string(i + 1), name, type, entry.start * block, entry.count * block});
  }
  return make_partitions(std::move(disk), std::move(table));
}

PlacedFields shown_map(Probe& probe) {
  std::uint64_t block = block_size(reader_of(probe));
  return block == 0 ? PlacedFields{} : fields_at<MapEntry>(probe, block);
}

}  // namespace

Format apple_map_format() {
  return {.id = "apple-map",
          .name = "disk with an Apple partition map",
          .family = "partition table",
          .specification = "Inside Macintosh: Devices, chapter 3",
          .reads = "all partitions, unallocated ranges, blocks of 512 and 2048 bytes",
          .lacks = "",
          .suffixes = {},
          .recognise = recognise_apple_map,
          .open = open_apple_map,
          .records = {record_at<DriverDescriptor>("driver descriptor", 0), {"first partition", shown_map}}};
}

}  // namespace operculum

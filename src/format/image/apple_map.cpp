// Apple partition maps: a driver descriptor in block 0, then one block for each partition (Inside Macintosh:
// Devices, chapter 3).
#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "base/text.h"
#include "format/formats.h"
#include "format/image/partition_table.h"

namespace operculum {
namespace {

constexpr std::uint16_t kDriverMark = 0x4552, kMapMark = 0x504D;  // "ER", "PM"
constexpr std::uint32_t kMostPartitions = 4096;

/// The block size by which the map can be read; 0 when there is none.
std::uint64_t block_size(const std::function<Bytes(std::uint64_t, std::size_t)>& read) {
  Bytes head = read(0, 4);
  if (head.size() < 4 || BigFields(head, "Apple partition map").u16(0) != kDriverMark) return 0;
  for (std::uint64_t size :
       {std::uint64_t{512}, std::uint64_t{BigFields(head, "Apple partition map").u16(2)}}) {
    Bytes first = size >= 512 ? read(size, 2) : Bytes();
    if (first.size() == 2 && BigFields(first, "Apple partition map").u16(0) == kMapMark) return size;
  }
  return 0;
}

std::string text_of(std::string_view raw) {
  return std::string(until_zero(raw));
}

Match recognise_apple_map(Probe& probe) {
  return block_size([&](std::uint64_t at, std::size_t count) { return probe.at(at, count); }) != 0
             ? Match::front
             : Match::none;
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
    Bytes raw = read_up_to(*disk, (i + 1) * block, 512);
    if (raw.size() < 512 || BigFields(raw, "Apple partition map").u16(0) != kMapMark) {
      table.findings.push_back(
          {Finding::Level::fault, fmt::format("the partition map ends after {} of {} entries", i, count)});
      break;
    }
    BigFields f(raw, "Apple partition map", (i + 1) * block);
    count = std::min(f.u32(4), kMostPartitions);
    std::string name = text_of(f.text(16, 32)), type = text_of(f.text(48, 32));
    if (type == "Apple_Free") continue;  // becomes an unallocated range
    table.partitions.push_back({std::to_string(i + 1), name, type, f.u32(8) * block, f.u32(12) * block});
  }
  return make_partitions(std::move(disk), std::move(table));
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
          .open = open_apple_map};
}

}  // namespace operculum

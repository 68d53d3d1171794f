// SGI disk volume headers: one big-endian sector with boot files by name and sixteen partitions (dvh(5),
// <sys/dvh.h>). All 32-bit words of the sector add up to 0.
#include <fmt/format.h>

#include "base/fields.h"
#include "base/text.h"
#include "format/image/formats.h"
#include "format/image/partition_table.h"

namespace operculum {
namespace {

constexpr std::size_t kHeaderSize = 512, kFilesAt = 72, kFileSize = 16, kPartitionsAt = 312,
                      kPartitionSize = 12;
constexpr std::uint32_t kMark = 0x0BE5A941;
constexpr std::size_t kFiles = 15, kPartitions = 16;
constexpr std::uint64_t kSector = 512;
constexpr std::uint32_t kVolumeHeader = 0, kWholeVolume = 6;

std::string_view type_name(std::uint32_t type) {
  static constexpr std::string_view kNames[] = {"volume header",
                                                "track replacement",
                                                "sector replacement",
                                                "raw or swap",
                                                "BSD",
                                                "System V",
                                                "whole volume",
                                                "EFS",
                                                "logical volume",
                                                "raw logical volume",
                                                "XFS",
                                                "XFS log",
                                                "XLV volume",
                                                "XVM volume"};
  return type < std::size(kNames) ? kNames[type]
         : type == 0x82           ? "Linux swap"
         : type == 0x83           ? "Linux"
                                  : "other";
}

bool is_header(ByteView raw) {
  if (raw.size() < kHeaderSize) return false;
  BigFields f(raw, "SGI volume header");
  std::uint32_t sum = 0;
  for (std::size_t at = 0; at < kHeaderSize; at += 4) sum += f.u32(at);
  return f.u32(0) == kMark && sum == 0;
}

Match recognise_sgi_label(Probe& probe) {
  return is_header(probe.head(kHeaderSize)) ? Match::front : Match::none;
}

ContainerPtr open_sgi_label(const Input& input, OpenContext& context) {
  SourcePtr disk = random_access(*input.content, context.spool);
  Bytes raw = read_exactly(*disk, 0, kHeaderSize, "SGI volume header");
  BigFields f(raw, "SGI volume header");
  PartitionTable table;
  table.taken.emplace_back(0, kHeaderSize);
  std::string files;
  for (std::size_t i = 0; i < kFiles; ++i) {
    std::string_view name = f.text(kFilesAt + i * kFileSize, 8);
    name = until_zero(name);
    if (!name.empty()) files += fmt::format("{}{}", files.empty() ? "" : ", ", name);
  }
  if (!files.empty()) table.facts.emplace_back("boot", files + ", in the volume header");
  for (std::size_t i = 0; i < kPartitions; ++i) {
    std::size_t at = kPartitionsAt + i * kPartitionSize;
    std::uint64_t length = f.u32(at) * kSector, start = f.u32(at + 4) * kSector;
    std::uint32_t type = f.u32(at + 8);
    if (length == 0 || type == kWholeVolume || (type == kVolumeHeader && start == 0)) continue;
    table.partitions.push_back({std::to_string(i + 1), "", std::string(type_name(type)), start, length});
  }
  return make_partitions(std::move(disk), std::move(table));
}

}  // namespace

Format sgi_label_format() {
  return {.id = "sgi-label",
          .name = "disk with an SGI volume header",
          .family = "partition table",
          .specification = "dvh(5), <sys/dvh.h>",
          .reads = "all partitions with their types, names of boot files, unallocated ranges",
          .lacks = "the boot files' contents",
          .suffixes = {},
          .recognise = recognise_sgi_label,
          .open = open_sgi_label};
}

}  // namespace operculum

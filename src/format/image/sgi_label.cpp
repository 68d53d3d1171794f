// SGI disk volume headers: one big-endian sector with boot files by name and sixteen partitions (dvh(5),
// <sys/dvh.h>). All 32-bit words of the sector add up to 0.
#include <fmt/format.h>

#include "base/structure.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/image/formats.h"
#include "format/image/partition_table.h"

namespace operculum {
namespace {

constexpr std::uint32_t kMark = 0x0BE5A941;
constexpr std::size_t kFiles = 15, kPartitions = 16;
constexpr std::uint64_t kSector = 512;
constexpr std::uint32_t kVolumeHeader = 0, kWholeVolume = 6;

/// Boot files by name, and the partitions, follow at their places.
struct VolumeHeader {
  std::uint32_t magic = 0, checksum = 0;
  std::uint16_t root_partition = 0, swap_partition = 0;
  std::array<Byte, 16> boot_file{};
  static constexpr auto layout = big_endian(
      field("vh_magic", &VolumeHeader::magic), field("vh_rootpt", &VolumeHeader::root_partition),
      field("vh_swappt", &VolumeHeader::swap_partition), field("vh_bootfile", &VolumeHeader::boot_file),
      from_byte<504>(), field("vh_csum", &VolumeHeader::checksum));
  static constexpr std::size_t files_at = 72, partitions_at = 312, size = 512;
};
struct BootFile {
  std::array<Byte, 8> name{};
  std::uint32_t block = 0, length = 0;
  static constexpr auto layout =
      big_endian(field("vd_name", &BootFile::name), field("vd_lbn", &BootFile::block),
                 field("vd_nbytes", &BootFile::length));
};
struct PartitionRow {
  std::uint32_t blocks = 0, first = 0, type = 0;
  static constexpr auto layout =
      big_endian(field("pt_nblks", &PartitionRow::blocks), field("pt_firstlbn", &PartitionRow::first),
                 field("pt_type", &PartitionRow::type));
};
constexpr std::size_t kHeaderSize = VolumeHeader::size;

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
  std::uint32_t sum = 0;
  for (std::size_t at = 0; at < kHeaderSize; at += 4)
    sum += static_cast<std::uint32_t>(load_number(raw.data() + at, 4, std::endian::big));
  return read_structure<VolumeHeader>(raw.data()).magic == kMark && sum == 0;
}

Match recognise_sgi_label(Probe& probe) {
  return is_header(probe.head(kHeaderSize)) ? Match::front : Match::none;
}

ContainerPtr open_sgi_label(const Input& input, OpenContext& context) {
  SourcePtr disk = random_access(*input.content, context.spool);
  Bytes raw = read_exactly(*disk, 0, kHeaderSize, "SGI volume header");
  PartitionTable table;
  table.taken.emplace_back(0, kHeaderSize);
  std::string files;
  for (std::size_t i = 0; i < kFiles; ++i) {
    auto file = read_structure<BootFile>(raw.data() + VolumeHeader::files_at + i * size_on_disk<BootFile>);
    std::string_view name = until_zero(as_text(file.name));
    if (!name.empty()) files += fmt::format("{}{}", files.empty() ? "" : ", ", name);
  }
  if (!files.empty()) table.facts.emplace_back("boot", files + ", in the volume header");
  for (std::size_t i = 0; i < kPartitions; ++i) {
    auto row = read_structure<PartitionRow>(raw.data() + VolumeHeader::partitions_at +
                                            i * size_on_disk<PartitionRow>);
    if (row.blocks == 0 || row.type == kWholeVolume || (row.type == kVolumeHeader && row.first == 0))
      continue;
    table.partitions.push_back({std::to_string(i + 1), "", std::string(type_name(row.type)),
                                row.first * kSector, row.blocks * kSector});
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
          .open = open_sgi_label,
          .records = {record_at<VolumeHeader>("volume header", 0)}};
}

}  // namespace operculum

#pragma once

#include "base/structure.h"

namespace operculum::vhd {

// On disk (Virtual Hard Disk Image Format Specification 1.0, numbers big-endian): a fixed image is the disk
// and the footer. A dynamic one is a copy of the footer, the dynamic header, the block table, blocks, and the
// footer. In front of a block's sectors a bitmap tells which of them are in use.

inline constexpr std::uint64_t kSector = 512;
inline constexpr std::size_t kFooterSize = 512, kDynamicSize = 1024;
inline constexpr std::uint32_t kUnused = 0xFFFFFFFF;  // in the block table: the block is not there
/// The footer's Disk Type.
enum DiskType : std::uint32_t { fixed = 2, dynamic = 3, differencing = 4 };

/// "Hard Disk Footer Format".
struct Footer {
  std::array<Byte, 8> cookie{'c', 'o', 'n', 'e', 'c', 't', 'i', 'x'};
  std::uint32_t features = 2, file_format_version = 0x00010000;
  std::uint64_t data_offset = 0;  // of the dynamic header
  std::uint32_t time_stamp = 0;   // seconds since 2000
  std::array<Byte, 4> creator_application{'w', 'i', 'n',
                                          ' '};  // then readers take the size, not the geometry
  std::uint32_t creator_version = 0x00010000;
  std::array<Byte, 4> creator_host_os{'W', 'i', '2', 'k'};
  std::uint64_t original_size = 0, current_size = 0;
  std::uint16_t cylinders = 0;
  std::uint8_t heads = 0, sectors = 0;
  std::uint32_t disk_type = dynamic, checksum = 0;
  std::array<Byte, 16> unique_id{};

  static constexpr auto layout = big_endian(
      field("Cookie", &Footer::cookie), field("Features", &Footer::features),
      field("File Format Version", &Footer::file_format_version), field("Data Offset", &Footer::data_offset),
      field("Time Stamp", &Footer::time_stamp), field("Creator Application", &Footer::creator_application),
      field("Creator Version", &Footer::creator_version), field("Creator Host OS", &Footer::creator_host_os),
      field("Original Size", &Footer::original_size), field("Current Size", &Footer::current_size),
      field("Disk Geometry, cylinders", &Footer::cylinders), field("Disk Geometry, heads", &Footer::heads),
      field("Disk Geometry, sectors", &Footer::sectors), field("Disk Type", &Footer::disk_type),
      field("Checksum", &Footer::checksum), field("Unique Id", &Footer::unique_id));
};

/// "Dynamic Disk Header Format".
struct DynamicHeader {
  std::array<Byte, 8> cookie{'c', 'x', 's', 'p', 'a', 'r', 's', 'e'};
  std::uint64_t data_offset = UINT64_MAX, table_offset = 0;
  std::uint32_t header_version = 0x00010000, max_table_entries = 0, block_size = 0, checksum = 0;
  std::array<Byte, 16> parent_id{};
  std::uint32_t parent_time = 0;

  static constexpr auto layout =
      big_endian(field("Cookie", &DynamicHeader::cookie), field("Data Offset", &DynamicHeader::data_offset),
                 field("Table Offset", &DynamicHeader::table_offset),
                 field("Header Version", &DynamicHeader::header_version),
                 field("Max Table Entries", &DynamicHeader::max_table_entries),
                 field("Block Size", &DynamicHeader::block_size), field("Checksum", &DynamicHeader::checksum),
                 field("Parent Unique ID", &DynamicHeader::parent_id),
                 field("Parent Time Stamp", &DynamicHeader::parent_time));
};
inline constexpr std::size_t kParentNameAt = 64, kParentNameSize = 512;  // UTF-16, in the dynamic header

/// What the sector bitmap in front of a block takes, in bytes: a bit for each sector, up to a whole sector.
constexpr std::uint64_t bitmap_size(std::uint64_t block_size) {
  return (block_size / kSector / 8 + kSector - 1) / kSector * kSector;
}

/// One's complement of the sum of all bytes except those of the checksum, which lies `at`.
inline std::uint32_t checksum_of(ByteView raw, std::size_t at) {
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < raw.size(); ++i) sum += i >= at && i < at + 4 ? 0 : raw[i];
  return ~sum;
}

}  // namespace operculum::vhd

#pragma once

#include "base/structure.h"

namespace operculum::cfb {

// On disk ([MS-CFB], numbers little-endian): a header of one sector, then sectors. The table of chains
// (FAT) says of each sector which one goes on; the header, and chained sectors behind its 109 rows (DIFAT),
// say where the table's own sectors are. The directory is a chain of entries of 128 bytes, in which the names
// of a storage are a binary tree. Streams below the cutoff lie in short sectors of 64 bytes, which are cut
// out of the root's own stream and have a table of their own (mini FAT).

inline constexpr std::size_t kHeader = 512, kDirectoryEntry = 128;
inline constexpr std::size_t kTableInHeader = 109, kTableInHeaderAt = 76;
inline constexpr unsigned kShortShift = 6;
inline constexpr std::uint32_t kNoNode = 0xFFFFFFFF;

/// Sector numbers with a meaning of their own (2.1).
enum : std::uint32_t {
  most_sector_mark = 0xFFFFFFFA,
  list_sector_mark = 0xFFFFFFFC,   // holds rows of the list of table sectors
  table_sector_mark = 0xFFFFFFFD,  // holds rows of the table
  end_of_chain_sector_mark = 0xFFFFFFFE,
  free_sector_mark = 0xFFFFFFFF
};

/// 2.2.
struct Header {
  std::array<Byte, 8> signature{0xD0, 0xCF, 0x11, 0xE0, 0xA1, 0xB1, 0x1A, 0xE1};
  std::array<Byte, 16> clsid{};
  std::uint16_t minor_version = 0x3E, major_version = 3, byte_order = 0xFFFE, sector_shift = 9,
                mini_sector_shift = kShortShift;
  std::uint32_t directory_sectors = 0;  // 0 in version 3
  std::uint32_t fat_sectors = 0, first_directory_sector = end_of_chain_sector_mark, transaction_signature = 0,
                mini_stream_cutoff = 4096, first_mini_fat_sector = end_of_chain_sector_mark,
                mini_fat_sectors = 0, first_difat_sector = end_of_chain_sector_mark, difat_sectors = 0;

  static constexpr auto layout = little_endian(
      field("Header Signature", &Header::signature), field("Header CLSID", &Header::clsid),
      field("Minor Version", &Header::minor_version), field("Major Version", &Header::major_version),
      field("Byte Order", &Header::byte_order), field("Sector Shift", &Header::sector_shift),
      field("Mini Sector Shift", &Header::mini_sector_shift), from_byte<40>(),
      field("Number of Directory Sectors", &Header::directory_sectors),
      field("Number of FAT Sectors", &Header::fat_sectors),
      field("First Directory Sector Location", &Header::first_directory_sector),
      field("Transaction Signature Number", &Header::transaction_signature),
      field("Mini Stream Cutoff Size", &Header::mini_stream_cutoff),
      field("First Mini FAT Sector Location", &Header::first_mini_fat_sector),
      field("Number of Mini FAT Sectors", &Header::mini_fat_sectors),
      field("First DIFAT Sector Location", &Header::first_difat_sector),
      field("Number of DIFAT Sectors", &Header::difat_sectors));
};

/// What a directory entry stands for (2.6.1).
enum NodeType : std::uint8_t { unallocated_node = 0, storage_node = 1, stream_node = 2, root_node = 5 };
/// The colour of a node in a storage's tree (2.6.1).
enum Color : std::uint8_t { red_node = 0, black_node = 1 };

/// 2.6.1.
struct DirectoryEntry {
  std::array<Byte, 64> name{};
  std::uint16_t name_length = 0;  // bytes, with the zero behind it
  std::uint8_t type = unallocated_node, color = black_node;
  std::uint32_t left = kNoNode, right = kNoNode, child = kNoNode;
  std::array<Byte, 16> clsid{};
  std::uint32_t state = 0;
  std::uint64_t created = 0, modified = 0;  // FILETIME
  std::uint32_t start = 0;
  std::uint64_t size = 0;  // version 3: only the lower half counts

  static constexpr auto layout = little_endian(
      field("Directory Entry Name", &DirectoryEntry::name),
      field("Directory Entry Name Length", &DirectoryEntry::name_length),
      field("Object Type", &DirectoryEntry::type), field("Color Flag", &DirectoryEntry::color),
      field("Left Sibling ID", &DirectoryEntry::left), field("Right Sibling ID", &DirectoryEntry::right),
      field("Child ID", &DirectoryEntry::child), field("CLSID", &DirectoryEntry::clsid),
      field("State Bits", &DirectoryEntry::state), field("Creation Time", &DirectoryEntry::created),
      field("Modified Time", &DirectoryEntry::modified),
      field("Starting Sector Location", &DirectoryEntry::start), field("Stream Size", &DirectoryEntry::size));
};
static_assert(size_on_disk<DirectoryEntry> == kDirectoryEntry);

}  // namespace operculum::cfb

#pragma once

#include <string>
#include <vector>

#include "io/source.h"

namespace operculum::cab {

constexpr std::string_view kMark = "MSCF";
constexpr std::size_t kHeader = 36, kFolderRecord = 8, kFileRecord = 16, kDataHeader = 8;

enum HeaderFlag : std::uint16_t { has_previous = 1, has_next = 2, has_reserve = 4 };
enum FileFlag : std::uint16_t {
  read_only = 1,
  hidden = 2,
  system = 4,
  archive = 0x20,
  execute = 0x40,
  utf8_name = 0x80
};

/// Values of FileRecord::folder for files that run across cabinets; they belong to the last folder (all but
/// the first) or the first folder (the first).
enum Continued : std::uint16_t { from_previous = 0xFFFD, to_next = 0xFFFE, from_previous_to_next = 0xFFFF };

struct FolderRecord {
  std::uint32_t at = 0;      ///< of its first data block, in the cabinet
  std::uint16_t blocks = 0;  ///< data blocks in this cabinet
  std::uint16_t method = 0;  ///< bits 0 to 3: the codec; 4 to 7: Quantum's level; 8 to 12: window bits
};

struct FileRecord {
  std::uint32_t size = 0, offset = 0;  ///< bytes; the offset is in the unpacked folder
  std::uint16_t folder = 0, date = 0, time = 0, flags = 0;
  std::string name;  ///< as stored
};

/// One cabinet file ([MS-CAB] 2): its tables, read and checked for what they point to.
struct Cabinet {
  std::string name;  ///< of the file
  SourcePtr bytes;
  std::uint64_t stated_size = 0;
  std::uint16_t flags = 0, set_id = 0, number = 0;
  std::size_t data_reserve = 0;          ///< bytes between a data block's header and its data
  Bytes reserve;                         ///< of the header
  std::string previous, next;            ///< file names; empty: none
  std::string previous_disk, next_disk;  ///< labels
  std::vector<FolderRecord> folders;
  std::vector<FileRecord> files;
  std::string trouble;  ///< why not all files could be listed; empty: all were
};

/// Throws Malformed when not even the folders can be read.
Cabinet read_cabinet(SourcePtr bytes, std::string name);

/// The checksum of [MS-CAB] 3.1.
std::uint32_t checksum(ByteView data, std::uint32_t seed);

}  // namespace operculum::cab

#pragma once

#include <string>
#include <vector>

#include "base/structure.h"
#include "io/source.h"

namespace operculum::cab {

// On disk ([MS-CAB] 2, numbers little-endian): a header, with reserved areas and the names of neighbours
// where its flags say so; rows of folders; rows of files with their names; the data blocks of the folders.

constexpr std::string_view kMark = "MSCF";

/// "CFHEADER", its fixed part.
struct Header {
  std::array<Byte, 4> signature{'M', 'S', 'C', 'F'};
  std::uint32_t reserved1 = 0, size = 0, reserved2 = 0, files_at = 0, reserved3 = 0;
  std::uint8_t minor = 3, major = 1;
  std::uint16_t folders = 0, files = 0, flags = 0, set_id = 0, number = 0;

  static constexpr auto layout = little_endian(
      field("signature", &Header::signature), field("reserved1", &Header::reserved1),
      field("cbCabinet", &Header::size), field("reserved2", &Header::reserved2),
      field("coffFiles", &Header::files_at), field("reserved3", &Header::reserved3),
      field("versionMinor", &Header::minor), field("versionMajor", &Header::major),
      field("cFolders", &Header::folders), field("cFiles", &Header::files), field("flags", &Header::flags),
      field("setID", &Header::set_id), field("iCabinet", &Header::number));
};

/// Bits of flags: what the header has behind it.
enum HeaderFlag : std::uint16_t { has_previous = 1, has_next = 2, has_reserve = 4 };
/// Bits of attribs.
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

/// CFFOLDER: files that are packed together.
struct FolderRecord {
  std::uint32_t at = 0;      ///< of its first data block, in the cabinet
  std::uint16_t blocks = 0;  ///< data blocks in this cabinet
  std::uint16_t method = 0;  ///< bits 0 to 3: the codec; 4 to 7: Quantum's level; 8 to 12: window bits

  static constexpr auto layout =
      little_endian(field("coffCabStart", &FolderRecord::at), field("cCFData", &FolderRecord::blocks),
                    field("typeCompress", &FolderRecord::method));
};
/// How a folder is packed.
enum Codec : std::uint16_t { stored_codec = 0, mszip_codec = 1, quantum_codec = 2, lzx_codec = 3 };

/// CFFILE: a file within a folder.
struct FileRecord {
  std::uint32_t size = 0, offset = 0;  ///< bytes; the offset is in the unpacked folder
  std::uint16_t folder = 0, date = 0, time = 0, flags = 0;
  std::string name;  ///< as stored

  static constexpr auto layout =
      little_endian(field("cbFile", &FileRecord::size), field("uoffFolderStart", &FileRecord::offset),
                    field("iFolder", &FileRecord::folder), field("date", &FileRecord::date),
                    field("time", &FileRecord::time), field("attribs", &FileRecord::flags));
};

/// What is reserved in a cabinet that is signed: where the signature lies, behind the cabinet.
struct SignatureReserve {
  std::uint32_t offset = 0, length = 0;
  static constexpr std::size_t size = 20;  ///< with what is not read
  static constexpr auto layout =
      little_endian(from_byte<8>(), field("signature offset", &SignatureReserve::offset),
                    field("signature length", &SignatureReserve::length));
};

/// "CFDATA", in front of the reserved area and the packed bytes of a block.
struct DataHeader {
  std::uint32_t sum = 0;
  std::uint16_t packed = 0, size = 0;

  static constexpr auto layout =
      little_endian(field("csum", &DataHeader::sum), field("cbData", &DataHeader::packed),
                    field("cbUncomp", &DataHeader::size));
};

constexpr std::size_t kHeader = size_on_disk<Header>, kFolderRecord = size_on_disk<FolderRecord>,
                      kFileRecord = size_on_disk<FileRecord>, kDataHeader = size_on_disk<DataHeader>;
constexpr std::size_t kBlock = 32768;  // plain bytes in every block but a folder's last

/// One cabinet file ([MS-CAB] 2): its tables, read and checked for what they point to.
struct Cabinet {
  std::string name;  ///< of the file
  SourcePtr bytes;
  std::uint64_t stated_size = 0;
  std::uint16_t flags = 0, set_id = 0, number = 0;
  std::size_t folder_reserve = 0;        ///< bytes behind each folder's row
  std::size_t data_reserve = 0;          ///< bytes between a data block's header and its data
  Bytes reserve;                         ///< of the header
  std::size_t folders_at = 0;            ///< offset of the folders' rows
  std::string previous, next;            ///< file names; empty: none
  std::string previous_disk, next_disk;  ///< labels
  std::vector<FolderRecord> folders;
  std::vector<FileRecord> files;
  std::string trouble;  ///< why not all files could be listed; empty: all were
};

/// Where a cabinet's signature lies; length 0: there is none. 20 reserved bytes of the header tell of it: the
/// third and fourth number are its offset and size.
struct Signature {
  std::uint64_t at = 0, length = 0;
};
Signature signature(const Cabinet& cabinet);

/// Throws Malformed when not even the folders can be read.
Cabinet read_cabinet(SourcePtr bytes, std::string name);

/// The checksum of [MS-CAB] 3.1.
std::uint32_t checksum(ByteView data, std::uint32_t seed);

}  // namespace operculum::cab

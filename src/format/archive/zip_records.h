#pragma once

#include <optional>
#include <string_view>
#include <vector>

#include "base/cursor.h"
#include "container/entry.h"

namespace operculum::zip {

// On-disk structures of ZIP, with the names and in the order of APPNOTE 6.3.10; numbers in brackets are its
// sections.

constexpr std::uint32_t kLocalHeader = 0x04034b50;     // "PK\3\4" (4.3.7)
constexpr std::uint32_t kDataDescriptor = 0x08074b50;  // "PK\7\8" (4.3.9.3)
constexpr std::uint32_t kCentralHeader = 0x02014b50;   // "PK\1\2" (4.3.12)
constexpr std::uint32_t kZip64End = 0x06064b50;        // "PK\6\6" (4.3.14)
constexpr std::uint32_t kZip64Locator = 0x07064b50;    // "PK\6\7" (4.3.15)
constexpr std::uint32_t kEnd = 0x06054b50;             // "PK\5\6" (4.3.16)
constexpr std::uint32_t kSpannedMark = 0x30304b50;  // "PK00": a split set that fitted into one volume (8.5.5)

constexpr std::size_t kLocalSize = 30, kCentralSize = 46, kEndSize = 22, kZip64EndSize = 56,
                      kZip64LocatorSize = 20;

/// General purpose bit flag (4.4.4).
enum Bit : std::uint16_t {
  encrypted_bit = 1 << 0,
  lzma_end_mark_bit = 1 << 1,
  descriptor_bit = 1 << 3,
  patch_bit = 1 << 5,
  strong_encryption_bit = 1 << 6,
  utf8_bit = 1 << 11,
  masked_header_bit = 1 << 13,
};

struct LocalHeader {  // 4.3.7
  std::uint16_t version_needed = 0, flags = 0, method = 0, time = 0, date = 0;
  std::uint32_t crc32 = 0;
  std::uint64_t compressed_size = 0, uncompressed_size = 0;  // 32 bits; replaced from the Zip64 field
  std::string_view name;
  ByteView extra;
  std::size_t length = 0;  ///< of the whole header, in bytes

  static LocalHeader read(Cursor& cursor);
};

struct CentralHeader {  // 4.3.12
  std::uint16_t version_made_by = 0, version_needed = 0, flags = 0, method = 0, time = 0, date = 0;
  std::uint32_t crc32 = 0;
  std::uint64_t compressed_size = 0, uncompressed_size = 0;
  std::uint32_t disk = 0;
  std::uint16_t internal_attributes = 0;
  std::uint32_t external_attributes = 0;
  std::uint64_t local_offset = 0;
  std::string_view name;
  ByteView extra;
  std::string_view comment;

  static CentralHeader read(Cursor& cursor);
};

/// The end records, the Zip64 one laid over the plain one (4.3.14, 4.3.16).
struct EndRecord {
  std::uint32_t disk = 0, directory_disk = 0;
  std::uint64_t entries_here = 0, entries = 0;
  std::uint64_t directory_size = 0, directory_offset = 0;
  std::string comment;
  std::uint64_t position = 0;  ///< of the plain record, in the file
  std::uint64_t begin =
      0;  ///< of the first end record (the Zip64 one where there is one): the directory ends here
  bool zip64 = false;
};

/// Extra fields that matter, from central or local headers (4.5, and the published third-party field list).
struct ExtraFields {
  Timestamp modified, accessed, created;
  std::optional<std::string_view> unicode_path,
      unicode_comment;  // 0x7075, 0x6375: only when their CRC fits the plain one
  struct Aes {
    std::uint16_t version = 0, method = 0;
    std::uint8_t strength = 0;
  };
  std::optional<Aes> aes;  // 0x9901
  std::optional<std::uint32_t> user_id, group_id;
  bool broken = false;  ///< the fields do not fill their space properly
};

/// Reads the fields, and replaces all-ones sizes and offset in `header` by their Zip64 values (0x0001).
ExtraFields read_extra(CentralHeader& header);
ExtraFields read_extra(LocalHeader& header);

/// Codec names by compression method (4.4.5); the codec is absent when we lack it.
struct Method {
  std::uint16_t number;
  std::string_view name;
  std::string_view codec;
};
const Method& method_of(std::uint16_t number);

constexpr std::uint16_t kMethodLzma = 14, kMethodAes = 99;

}  // namespace operculum::zip

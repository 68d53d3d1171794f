#pragma once

#include <optional>
#include <string_view>
#include <vector>

#include "base/cursor.h"
#include "base/structure.h"
#include "container/entry.h"

namespace operculum::zip {

// A ZIP archive is entries, each a local header and its data, then the central directory with a header for
// each, then end records that tell where it lies: so it was appended to on floppies, by writing a new
// directory behind the new data. Readers begin at the end. Offsets count from the archive's first byte, which
// need not be the file's: a program that unpacks it may lie in front. Sizes of 32 bits that hold all ones are
// told by a Zip64 extra field.
//
// On-disk structures with the names and in the order of APPNOTE 6.3.10; numbers in brackets are its
// sections.

constexpr std::uint32_t kLocalHeader = 0x04034b50;     // "PK\3\4" (4.3.7)
constexpr std::uint32_t kDataDescriptor = 0x08074b50;  // "PK\7\8" (4.3.9.3)
constexpr std::uint32_t kCentralHeader = 0x02014b50;   // "PK\1\2" (4.3.12)
constexpr std::uint32_t kZip64End = 0x06064b50;        // "PK\6\6" (4.3.14)
constexpr std::uint32_t kZip64Locator = 0x07064b50;    // "PK\6\7" (4.3.15)
constexpr std::uint32_t kEnd = 0x06054b50;             // "PK\5\6" (4.3.16)
constexpr std::uint32_t kSpannedMark = 0x30304b50;  // "PK00": a split set that fitted into one volume (8.5.5)

constexpr std::uint64_t kSize32 = 0xffffffff;  // all ones: a Zip64 field tells the size or the place (4.5.3)
constexpr std::uint64_t kCount16 = 0xffff;     // likewise of counts (4.4.21)
constexpr std::uint32_t kDosFolder = 0x10;     // in the external attributes as DOS has them (4.4.15)

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

/// In front of each entry's data (4.3.7).
struct LocalHeader {
  std::uint32_t signature = kLocalHeader;
  std::uint16_t version_needed = 0, flags = 0, method = 0, time = 0, date = 0;
  std::uint32_t crc32 = 0;
  std::uint64_t compressed_size = 0, uncompressed_size = 0;  // 32 bits; replaced from the Zip64 field
  std::uint16_t name_length = 0, extra_length = 0;
  std::string_view name;
  ByteView extra;
  std::size_t length = 0;  ///< of the whole header, in bytes

  static constexpr auto layout = little_endian(
      field("local file header signature", &LocalHeader::signature),
      field("version needed to extract", &LocalHeader::version_needed),
      field("general purpose bit flag", &LocalHeader::flags),
      field("compression method", &LocalHeader::method), field("last mod file time", &LocalHeader::time),
      field("last mod file date", &LocalHeader::date), field("crc-32", &LocalHeader::crc32),
      narrow_field<4>("compressed size", &LocalHeader::compressed_size),
      narrow_field<4>("uncompressed size", &LocalHeader::uncompressed_size),
      field("file name length", &LocalHeader::name_length),
      field("extra field length", &LocalHeader::extra_length));

  static LocalHeader read(Cursor& cursor);
  /// The whole header with `name` and `extra`, whose lengths it states.
  void append_to(Bytes& out) const;
};

/// One for each entry in the central directory (4.3.12).
struct CentralHeader {
  std::uint32_t signature = kCentralHeader;
  std::uint16_t version_made_by = 0, version_needed = 0, flags = 0, method = 0, time = 0, date = 0;
  std::uint32_t crc32 = 0;
  std::uint64_t compressed_size = 0, uncompressed_size = 0;
  std::uint16_t name_length = 0, extra_length = 0, comment_length = 0;
  std::uint32_t disk = 0;  // 16 bits; replaced from the Zip64 field, as the sizes and the offset are
  std::uint16_t internal_attributes = 0;
  std::uint32_t external_attributes = 0;
  std::uint64_t local_offset = 0;
  std::string_view name;
  ByteView extra;
  std::string_view comment;

  static constexpr auto layout = little_endian(
      field("central file header signature", &CentralHeader::signature),
      field("version made by", &CentralHeader::version_made_by),
      field("version needed to extract", &CentralHeader::version_needed),
      field("general purpose bit flag", &CentralHeader::flags),
      field("compression method", &CentralHeader::method), field("last mod file time", &CentralHeader::time),
      field("last mod file date", &CentralHeader::date), field("crc-32", &CentralHeader::crc32),
      narrow_field<4>("compressed size", &CentralHeader::compressed_size),
      narrow_field<4>("uncompressed size", &CentralHeader::uncompressed_size),
      field("file name length", &CentralHeader::name_length),
      field("extra field length", &CentralHeader::extra_length),
      field("file comment length", &CentralHeader::comment_length),
      narrow_field<2>("disk number start", &CentralHeader::disk),
      field("internal file attributes", &CentralHeader::internal_attributes),
      field("external file attributes", &CentralHeader::external_attributes),
      narrow_field<4>("relative offset of local header", &CentralHeader::local_offset));

  static CentralHeader read(Cursor& cursor);
  /// The whole header with `name`, `extra` and `comment`, whose lengths it states.
  void append_to(Bytes& out) const;
};

/// At the very end; the comment follows (4.3.16).
struct PlainEnd {
  std::uint32_t signature = kEnd;
  std::uint16_t disk = 0, directory_disk = 0, entries_here = 0, entries = 0;
  std::uint32_t directory_size = 0, directory_offset = 0;
  std::uint16_t comment_length = 0;

  static constexpr auto layout = little_endian(
      field("end of central dir signature", &PlainEnd::signature),
      field("number of this disk", &PlainEnd::disk),
      field("number of the disk with the start of the central directory", &PlainEnd::directory_disk),
      field("total number of entries in the central directory on this disk", &PlainEnd::entries_here),
      field("total number of entries in the central directory", &PlainEnd::entries),
      field("size of the central directory", &PlainEnd::directory_size),
      field("offset of start of central directory", &PlainEnd::directory_offset),
      field(".ZIP file comment length", &PlainEnd::comment_length));
};

/// In front of the locator; an extensible data sector may follow it (4.3.14).
struct Zip64End {
  std::uint32_t signature = kZip64End;
  std::uint64_t record_size = 44;  // of what follows this field
  std::uint16_t version_made_by = 45, version_needed = 45;
  std::uint32_t disk = 0, directory_disk = 0;
  std::uint64_t entries_here = 0, entries = 0, directory_size = 0, directory_offset = 0;

  static constexpr auto layout = little_endian(
      field("zip64 end of central dir signature", &Zip64End::signature),
      field("size of zip64 end of central directory record", &Zip64End::record_size),
      field("version made by", &Zip64End::version_made_by),
      field("version needed to extract", &Zip64End::version_needed),
      field("number of this disk", &Zip64End::disk),
      field("number of the disk with the start of the central directory", &Zip64End::directory_disk),
      field("total number of entries in the central directory on this disk", &Zip64End::entries_here),
      field("total number of entries in the central directory", &Zip64End::entries),
      field("size of the central directory", &Zip64End::directory_size),
      field("offset of start of central directory", &Zip64End::directory_offset));
};

/// In front of the plain end record (4.3.15).
struct Zip64Locator {
  std::uint32_t signature = kZip64Locator, end_disk = 0;
  std::uint64_t end_offset = 0;
  std::uint32_t disks = 1;

  static constexpr auto layout = little_endian(
      field("zip64 end of central dir locator signature", &Zip64Locator::signature),
      field("number of the disk with the start of the zip64 end of central directory",
            &Zip64Locator::end_disk),
      field("relative offset of the zip64 end of central directory record", &Zip64Locator::end_offset),
      field("total number of disks", &Zip64Locator::disks));
};

/// The end records, the Zip64 one laid over the plain one (4.3.14, 4.3.16).
struct EndRecord {
  std::uint32_t disk = 0, directory_disk = 0;
  std::uint64_t entries_here = 0, entries = 0;
  std::uint64_t directory_size = 0, directory_offset = 0;
  std::string comment;
  std::uint64_t position = 0;  ///< of the plain record, in the file
  std::uint64_t begin =
      0;  ///< of the first end record, the Zip64 one where there is one: the directory's end
  bool zip64 = false;
};

constexpr std::size_t kLocalSize = size_on_disk<LocalHeader>, kCentralSize = size_on_disk<CentralHeader>,
                      kEndSize = size_on_disk<PlainEnd>, kZip64EndSize = size_on_disk<Zip64End>,
                      kZip64LocatorSize = size_on_disk<Zip64Locator>;
static_assert(kLocalSize == 30 && kCentralSize == 46 && kEndSize == 22);
static_assert(kZip64EndSize == 56 && kZip64LocatorSize == 20);

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

/// Ids of extra fields (4.5.2, and the published third-party field list).
enum FieldId : std::uint16_t {
  zip64_field = 0x0001,
  ntfs_field = 0x000a,
  extended_time_field = 0x5455,
  unix_old_field = 0x5855,
  unicode_comment_field = 0x6375,
  unicode_path_field = 0x7075,
  unix_ids_field = 0x7875,
  aes_field = 0x9901,
  alignment_field = 0xd935,  // fills up to where the data is to begin
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
/// The method that a codec makes; nothing when none does.
std::optional<std::uint16_t> method_for(std::string_view codec);

constexpr std::uint16_t kMethodStored = 0, kMethodImplode = 6, kMethodDeflate = 8, kMethodLzma = 14,
                        kMethodAes = 99;

}  // namespace operculum::zip

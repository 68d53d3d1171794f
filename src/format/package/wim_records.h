#pragma once

#include "base/structure.h"

/// The records of Windows imaging archives, with the names of the Windows Imaging File Format:
///
///   header | resources: files' data, each packed in chunks | metadata of each image | lookup table | XML
///
/// Content is known by its SHA-1 alone: the lookup table says where it lies, the metadata of an image is a
/// tree of files that names theirs. A solid resource packs the content of many files as one.
namespace operculum::wim {

constexpr std::string_view kMark("MSWIM\0\0\0", 8);
constexpr std::size_t kHashSize = 20;
using Hash = std::array<Byte, kHashSize>;

/// RESHDR_DISK_SHORT: flags and the stored size share eight bytes.
struct ResourceRecord {
  std::uint64_t flags_and_size = 0, offset = 0, original_size = 0;
  static constexpr auto layout = little_endian(field("bFlags and liSize", &ResourceRecord::flags_and_size),
                                               field("liOffset", &ResourceRecord::offset),
                                               field("liOriginalSize", &ResourceRecord::original_size));

  std::uint64_t size() const { return flags_and_size & 0x00FFFFFFFFFFFFFF; }
  bool has(unsigned flag) const { return (flags_and_size >> 56 & flag) != 0; }
};
/// What a resource is, and how it is stored.
enum ResourceFlag : unsigned { is_free = 0x01, is_metadata = 0x02, is_packed = 0x04, is_solid = 0x10 };

/// Its three resources follow.
struct HeaderRecord {
  std::array<Byte, 8> tag{};
  std::uint32_t size = 0, version = 0, flags = 0, chunk = 0;
  std::array<Byte, 16> guid{};
  std::uint16_t part = 0, parts = 0;
  std::uint32_t images = 0;
  static constexpr auto layout =
      little_endian(field("ImageTag", &HeaderRecord::tag), field("cbSize", &HeaderRecord::size),
                    field("dwVersion", &HeaderRecord::version), field("dwFlags", &HeaderRecord::flags),
                    field("dwCompressionSize", &HeaderRecord::chunk), field("gWIMGuid", &HeaderRecord::guid),
                    field("usPartNumber", &HeaderRecord::part), field("usTotalParts", &HeaderRecord::parts),
                    field("dwImageCount", &HeaderRecord::images));
};
constexpr std::size_t kLookupAt = size_on_disk<HeaderRecord>,
                      kXmlAt = kLookupAt + size_on_disk<ResourceRecord>;
constexpr std::size_t kHeaderSize = 208;

/// Bits of the header's flags.
enum HeaderFlag : std::uint32_t {
  has_compression = 2,
  is_spanned = 8,
  with_xpress = 0x20000,
  with_lzx = 0x40000,
  with_lzms = 0x80000
};

/// A row of the lookup table, behind its resource.
struct LookupRow {
  std::uint16_t part = 0;
  std::uint32_t references = 0;
  Hash hash{};
  static constexpr auto layout =
      little_endian(field("usPartNumber", &LookupRow::part), field("dwRefCount", &LookupRow::references),
                    field("bHash", &LookupRow::hash));
};
constexpr std::size_t kLookupRowSize = size_on_disk<ResourceRecord> + size_on_disk<LookupRow>;
static_assert(kLookupRowSize == 50);

/// In front of the chunks of a solid resource; their packed sizes follow, 32 bits each.
struct SolidHead {
  std::uint64_t size = 0;
  std::uint32_t chunk = 0, compression = 0;
  static constexpr auto layout =
      little_endian(field("size", &SolidHead::size), field("chunk size", &SolidHead::chunk),
                    field("compression", &SolidHead::compression));
};

/// DIRENTRY: a file or folder of an image; its name follows, then as many streams as it states.
struct FileRecord {
  std::uint64_t length = 0;
  std::uint32_t attributes = 0, security = 0;
  std::uint64_t below = 0, created = 0, accessed = 0, modified = 0;
  Hash hash{};
  std::uint64_t link_group = 0;  // of a reparse point: its tag, in the lower half
  std::uint16_t streams = 0, short_name_size = 0, name_size = 0;
  static constexpr auto layout = little_endian(
      field("liLength", &FileRecord::length), field("dwAttributes", &FileRecord::attributes),
      field("dwSecurityId", &FileRecord::security), field("liSubdirOffset", &FileRecord::below),
      from_byte<40>(), field("liCreationTime", &FileRecord::created),
      field("liLastAccessTime", &FileRecord::accessed), field("liLastWriteTime", &FileRecord::modified),
      field("bHash", &FileRecord::hash), from_byte<88>(),
      field("liHardLink or dwReparseTag", &FileRecord::link_group), field("wStreams", &FileRecord::streams),
      field("wShortNameLength", &FileRecord::short_name_size),
      field("wFileNameLength", &FileRecord::name_size));

  std::uint32_t reparse_tag() const { return static_cast<std::uint32_t>(link_group); }
};
static_assert(size_on_disk<FileRecord> == 102);
/// Bits of a file's attributes.
enum Attribute : std::uint32_t { read_only = 1, folder = 0x10, reparse = 0x400 };

/// STREAMENTRY: another stream of a file, or its data when it has no name; the name follows.
struct StreamRecord {
  std::uint64_t length = 0;
  Hash hash{};
  std::uint16_t name_size = 0;
  static constexpr auto layout = little_endian(field("liLength", &StreamRecord::length), from_byte<16>(),
                                               field("bHash", &StreamRecord::hash),
                                               field("wStreamNameLength", &StreamRecord::name_size));
};

/// What the metadata of an image begins with: security data, as long as it says, filled up to 8 bytes.
struct SecurityHead {
  std::uint32_t length = 0, entries = 0;
  static constexpr auto layout = little_endian(field("dwTotalLength", &SecurityHead::length),
                                               field("dwNumEntries", &SecurityHead::entries));
};

}  // namespace operculum::wim

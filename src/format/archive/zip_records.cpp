#include "format/archive/zip_records.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/checksum.h"
#include "base/error.h"

namespace operculum::zip {
namespace {

/// 4.5.3: only the values whose place in the header holds all ones are there, in this order.
template <typename Header>
void read_zip64(Cursor field, Header& header) {
  if (header.uncompressed_size == kSize32) header.uncompressed_size = field.u64le();
  if (header.compressed_size == kSize32) header.compressed_size = field.u64le();
  if constexpr (requires { header.local_offset; }) {
    if (header.local_offset == kSize32) header.local_offset = field.u64le();
    if (header.disk == 0xffff && field.left() >= 4) header.disk = field.u32le();
  }
}

/// 4.5.5: attribute 1 of the NTFS field holds three times.
void read_ntfs(Cursor field, ExtraFields& out) {
  field.skip(4);
  while (field.left() >= 4) {
    std::uint16_t tag = field.u16le(), size = field.u16le();
    Cursor attribute(field.take(size), "zip NTFS field");
    if (tag != 1 || size < 24) continue;
    out.modified = from_filetime(attribute.u64le());
    out.accessed = from_filetime(attribute.u64le());
    out.created = from_filetime(attribute.u64le());
  }
}

/// Extended timestamp: a bit for each time; the central copy holds the first only. NTFS times are finer and
/// stay.
void read_extended_time(Cursor field, ExtraFields& out) {
  Byte present = field.u8();
  int bit = 1;
  for (Timestamp* time : {&out.modified, &out.accessed, &out.created}) {
    if ((present & bit) != 0 && field.left() >= 4) {
      Timestamp value = from_unix(static_cast<std::int32_t>(field.u32le()));
      if (!time->known()) *time = value;
    }
    bit <<= 1;
  }
}

/// 4.6.9: a version, the CRC of the plain text it belongs to, then UTF-8.
std::optional<std::string_view> read_unicode(Cursor field, std::string_view plain) {
  if (field.u8() != 1 || field.u32le() != crc32(0, as_bytes(plain))) return std::nullopt;
  return field.text(field.left());
}

void read_unix_ids(Cursor field, ExtraFields& out) {
  if (field.u8() != 1) return;
  auto number = [&]() -> std::uint32_t {
    ByteView raw = field.take(field.u8());
    std::uint32_t value = 0;
    for (std::size_t i = std::min<std::size_t>(raw.size(), 4); i-- > 0;) value = (value << 8) | raw[i];
    return value;
  };
  out.user_id = number();
  out.group_id = number();
}

void read_aes(Cursor field, ExtraFields& out) {
  ExtraFields::Aes aes;
  aes.version = field.u16le();
  field.skip(2);  // vendor "AE"
  aes.strength = field.u8();
  aes.method = field.u16le();
  out.aes = aes;
}

template <typename Header>
ExtraFields read_fields(Header& header, std::string_view comment) {
  ExtraFields out;
  if (header.extra.empty()) return out;
  Cursor all(header.extra, "zip extra field");
  try {
    while (all.left() >= 4) {
      std::uint16_t id = all.u16le(), size = all.u16le();
      Cursor field(all.take(size), "zip extra field");
      switch (id) {
        case zip64_field:
          read_zip64(field, header);
          break;
        case ntfs_field:
          read_ntfs(field, out);
          break;
        case extended_time_field:
          read_extended_time(field, out);
          break;
        case unix_old_field:
          if (size >= 8) {
            out.accessed = from_unix(field.u32le());
            out.modified = from_unix(field.u32le());
          }
          break;
        case unicode_path_field:
          out.unicode_path = read_unicode(field, header.name);
          break;
        case unicode_comment_field:
          out.unicode_comment = read_unicode(field, comment);
          break;
        case unix_ids_field:
          read_unix_ids(field, out);
          break;
        case aes_field:
          read_aes(field, out);
          break;
        default:
          break;
      }
    }
  } catch (const Malformed&) {
    out.broken = true;
  }
  return out;
}

constexpr std::uint16_t kMethodOldZstd = 20;  // deprecated in favour of 93

// 4.4.5. Names without a codec are told in "Unsupported".
constexpr Method kMethods[] = {
    {0, "stored", "stored"},
    {1, "shrink", "shrink"},
    {2, "reduce-1", "reduce-1"},
    {3, "reduce-2", "reduce-2"},
    {4, "reduce-3", "reduce-3"},
    {5, "reduce-4", "reduce-4"},
    {6, "implode", "implode"},
    {8, "deflate", "deflate"},
    {9, "deflate64", "deflate64"},
    {10, "dcl-implode", "dcl-implode"},
    {12, "bzip2", "bzip2"},
    {14, "lzma", "lzma"},
    {16, "cmpsc", ""},
    {18, "terse", ""},
    {19, "lz77-z", ""},
    {kMethodOldZstd, "zstd", "zstd"},
    {93, "zstd", "zstd"},
    {94, "mp3", ""},
    {95, "xz", "xz"},
    {96, "jpeg", ""},
    {97, "wavpack", ""},
    {98, "ppmd", ""},
    {99, "aes", ""},
};
constexpr Method kUnknownMethod = {0xffff, "unknown", ""};

}  // namespace

LocalHeader LocalHeader::read(Cursor& cursor) {
  std::size_t start = cursor.position();
  std::uint64_t offset = cursor.offset();
  auto h = read_structure<LocalHeader>(cursor);
  if (h.signature != kLocalHeader) {
    refuse_field("zip local header", offset, &LocalHeader::signature, fmt::format("{:08x}", kLocalHeader),
                 fmt::format("{:08x}", h.signature));
  }
  h.name = cursor.text(h.name_length);
  h.extra = cursor.take(h.extra_length);
  h.length = cursor.position() - start;
  return h;
}

void LocalHeader::append_to(Bytes& out) const {
  LocalHeader header = *this;
  header.name_length = static_cast<std::uint16_t>(name.size());
  header.extra_length = static_cast<std::uint16_t>(extra.size());
  append_structure(out, header);
  out.insert(out.end(), name.begin(), name.end());
  out.insert(out.end(), extra.begin(), extra.end());
}

CentralHeader CentralHeader::read(Cursor& cursor) {
  std::uint64_t offset = cursor.offset();
  auto h = read_structure<CentralHeader>(cursor);
  if (h.signature != kCentralHeader) {
    refuse_field("zip central directory", offset, &CentralHeader::signature,
                 fmt::format("{:08x}", kCentralHeader), fmt::format("{:08x}", h.signature));
  }
  h.name = cursor.text(h.name_length);
  h.extra = cursor.take(h.extra_length);
  h.comment = cursor.text(h.comment_length);
  return h;
}

void CentralHeader::append_to(Bytes& out) const {
  CentralHeader header = *this;
  header.name_length = static_cast<std::uint16_t>(name.size());
  header.extra_length = static_cast<std::uint16_t>(extra.size());
  header.comment_length = static_cast<std::uint16_t>(comment.size());
  append_structure(out, header);
  out.insert(out.end(), name.begin(), name.end());
  out.insert(out.end(), extra.begin(), extra.end());
  out.insert(out.end(), comment.begin(), comment.end());
}

ExtraFields read_extra(CentralHeader& header) {
  return read_fields(header, header.comment);
}
ExtraFields read_extra(LocalHeader& header) {
  return read_fields(header, "");
}

const Method& method_of(std::uint16_t number) {
  static const auto by_number = [] {
    std::array<const Method*, 100> table;
    table.fill(&kUnknownMethod);
    for (const Method& method : kMethods) table[method.number] = &method;
    return table;
  }();
  return number < by_number.size() ? *by_number[number] : kUnknownMethod;
}

std::optional<std::uint16_t> method_for(std::string_view codec) {
  for (const Method& method : kMethods) {
    if (method.codec == codec && method.number != kMethodOldZstd) return method.number;
  }
  return std::nullopt;
}

}  // namespace operculum::zip

// gzip (RFC 1952): the header's name, time and comment are read here; members are joined by the codec.
#include "base/cursor.h"
#include "base/error.h"
#include "base/numbers.h"
#include "base/text.h"
#include "container/identify.h"
#include "format/stream/formats.h"
#include "format/stream/single_stream.h"

namespace operculum {
namespace {

constexpr Byte kId1 = 0x1f, kId2 = 0x8b, kDeflate = 8;
enum Flag : Byte { fhcrc = 2, fextra = 4, fname = 8, fcomment = 16, reserved = 0xe0 };

std::string zero_terminated(Cursor& cursor) {
  std::string text;
  while (Byte b = cursor.u8()) text += static_cast<char>(b);
  return to_utf8(text, "ISO-8859-1").value_or(text);  // RFC 1952, 2.3.1
}

/// 2.3; `extra_at` is where the extra field's data lies.
struct Header {
  std::uint32_t mtime = 0;
  std::size_t size = 0, extra_at = 0, extra_size = 0;
  std::string name, comment;
};

Header read_header(ByteView front) {
  Cursor cursor(front, "gzip header");
  cursor.skip(3);
  Header out;
  Byte flags = cursor.u8();
  out.mtime = cursor.u32le();
  cursor.skip(2);
  if ((flags & fextra) != 0) {
    out.extra_size = cursor.u16le();
    out.extra_at = cursor.position();
    cursor.skip(out.extra_size);
  }
  if ((flags & fname) != 0) out.name = zero_terminated(cursor);
  if ((flags & fcomment) != 0) out.comment = zero_terminated(cursor);
  if ((flags & fhcrc) != 0) cursor.skip(2);
  out.size = cursor.position();
  return out;
}

/// Where blocks state their size, less 1, in 16 bits of the extra field (BGZF, SAM format specification 4.1);
/// nothing where they do not.
std::optional<std::size_t> block_size_at(ByteView head) {
  constexpr std::size_t kSubfieldHead = 4;
  Header header = read_header(head);
  for (std::size_t at = header.extra_at, end = at + header.extra_size; at + kSubfieldHead <= end;) {
    std::size_t size = load_little<std::uint16_t>(head.data() + at + 2);
    if (head[at] == 'B' && head[at + 1] == 'C' && size == 2 && at + kSubfieldHead + size <= end)
      return at + kSubfieldHead;
    at += kSubfieldHead + size;
  }
  return std::nullopt;
}

void set_block_size(ByteSpan head, std::uint64_t member_size) {
  auto at = block_size_at(head);
  if (!at) return;
  if (member_size > UINT16_MAX + 1)
    throw Unsupported("a block of more than 64 KiB in a gzip file whose blocks state their sizes");
  store_number(head.data() + *at, 2, member_size - 1, std::endian::little);
}

constexpr std::uint64_t kTrailerSize = 8;  // CRC-32 and size (RFC 1952, 2.3.1)

Bytes trailer(const PackedContent& packed) {
  Bytes out;
  for (std::uint64_t value : {std::uint64_t{packed.crc32}, packed.plain_size}) {
    for (int i = 0; i < 32; i += 8) out.push_back(static_cast<Byte>(value >> i));
  }
  return out;
}

Framing framing_of(ByteView front) {
  return {read_header(front).size, "deflate", kTrailerSize, trailer, set_block_size};
}

Match recognise_gzip(Probe& probe) {
  ByteView head = probe.head(10);
  if (head.size() < 10 || head[0] != kId1 || head[1] != kId2 || head[2] != kDeflate ||
      (head[3] & reserved) != 0) {
    return Match::none;
  }
  return try_decoding("gzip", probe) == Trial::fails ? Match::none : Match::front;
}

ContainerPtr open_gzip_file(const Input& input, OpenContext&) {
  SingleStream stream{.codec = "gzip"};
  Probe probe = make_probe(*input.content, input.name);
  Header header = read_header(probe.head(Probe::kReach));
  if (header.mtime != 0) stream.modified = from_unix(header.mtime);
  stream.name = std::move(header.name);
  stream.comment = std::move(header.comment);
  stream.framing_of = framing_of;
  return make_single_stream(input, std::move(stream), {{".gz", ""}, {".tgz", ".tar"}, {".svgz", ".svg"}});
}

}  // namespace

Format gzip_format() {
  return {.id = "gzip",
          .name = "gzip file",
          .family = "stream",
          .specification = "RFC 1952",
          .reads = "several members, header name, time and comment, CRC-32 and size of each member verified",
          .lacks = "",
          .writes = "its members, each packed with the settings of the original where they can be found",
          .suffixes = {".gz", ".tgz", ".svgz"},
          .single_stream = true,
          .forward = true,
          .codec = "gzip",
          .checks_data = true,
          .recognise = recognise_gzip,
          .open = open_gzip_file};
}

}  // namespace operculum

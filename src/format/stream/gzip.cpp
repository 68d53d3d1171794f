// gzip (RFC 1952): the header's name, time and comment are read here; members are joined by the codec.
#include "base/cursor.h"
#include "base/error.h"
#include "base/text.h"
#include "container/identify.h"
#include "format/formats.h"
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

constexpr std::uint64_t kTrailerSize = 8;  // CRC-32 and size (RFC 1952, 2.3.1)

Bytes trailer(const PackedContent& packed) {
  Bytes out;
  for (std::uint64_t value : {std::uint64_t{packed.crc32}, packed.plain_size}) {
    for (int i = 0; i < 32; i += 8) out.push_back(static_cast<Byte>(value >> i));
  }
  return out;
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
  Cursor cursor(probe.head(Probe::kReach), "gzip header");
  cursor.skip(3);
  Byte flags = cursor.u8();
  std::uint32_t mtime = cursor.u32le();
  if (mtime != 0) stream.modified = from_unix(mtime);
  cursor.skip(2);
  if ((flags & fextra) != 0) cursor.skip(cursor.u16le());
  if ((flags & fname) != 0) stream.name = zero_terminated(cursor);
  if ((flags & fcomment) != 0) stream.comment = zero_terminated(cursor);
  if ((flags & fhcrc) != 0) cursor.skip(2);
  stream.framing = Framing{cursor.position(), "deflate", kTrailerSize, trailer};
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
          .writes = "one stream, packed with the settings of the original where they can be found",
          .suffixes = {".gz", ".tgz", ".svgz"},
          .single_stream = true,
          .codec = "gzip",
          .checks_data = true,
          .recognise = recognise_gzip,
          .open = open_gzip_file};
}

}  // namespace operculum

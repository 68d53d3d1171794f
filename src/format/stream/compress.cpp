#include "format/stream/formats.h"
#include "format/stream/single_stream.h"

namespace operculum {
namespace {

Match recognise_compress(Probe& probe) {
  ByteView head = probe.head(3);
  if (head.size() < 3 || head[0] != 0x1f || head[1] != 0x9d) return Match::none;
  unsigned widest = head[2] & 0x1f;
  if (widest < 9 || widest > 16 || (head[2] & 0x60) != 0) return Match::none;
  return try_decoding("compress", probe, 256) == Trial::fails ? Match::none : Match::front;
}

ContainerPtr open_compress_file(const Input& input, OpenContext&) {
  return make_single_stream(input, {.codec = "compress"}, {{".z", ""}, {".taz", ".tar"}});
}

}  // namespace

Format compress_format() {
  return {.id = "compress",
          .name = "compress (.Z) file",
          .family = "stream",
          .specification = "Unix compress, LZW with 9 to 16 bits",
          .reads = "block mode and plain, all code widths; the format has no checksum",
          .lacks = "",
          .writes = "the whole, with codes of up to 16 bits; the format keeps nothing but the content",
          .suffixes = {".z", ".taz"},
          .single_stream = true,
          .forward = true,
          .codec = "compress",
          .recognise = recognise_compress,
          .open = open_compress_file};
}

}  // namespace operculum

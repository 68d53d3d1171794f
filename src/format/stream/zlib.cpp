// zlib streams (RFC 1950): two header bytes and an Adler-32 behind, so only decoding tells them from chance.
#include "format/stream/formats.h"
#include "format/stream/single_stream.h"

namespace operculum {
namespace {

constexpr std::size_t kConvincing = 4096;  // bytes that must come out before the name is not asked

Match recognise_zlib(Probe& probe) {
  ByteView head = probe.head(2);
  if (head.size() < 2 || (head[0] & 0x0f) != 8 || (head[0] >> 4) > 7 || (head[0] * 256 + head[1]) % 31 != 0) {
    return Match::none;
  }
  constexpr Byte kPresetDictionary = 0x20;  // FDICT: nothing can be tried, and so little is proved
  if ((head[1] & kPresetDictionary) != 0) return Match::weak;
  Trial trial = try_decoding("zlib", probe, kConvincing);
  return trial == Trial::decodes ? Match::front : trial == Trial::too_short ? Match::weak : Match::none;
}

ContainerPtr open_zlib_file(const Input& input, OpenContext&) {
  return make_single_stream(input, {.codec = "zlib"}, {{".zz", ""}, {".zlib", ""}});
}

}  // namespace

Format zlib_format() {
  return {.id = "zlib",
          .name = "zlib stream",
          .family = "stream",
          .specification = "RFC 1950",
          .reads = "Adler-32 verified",
          .lacks = "preset dictionaries",
          .writes = "one stream, packed with the settings of the original where they can be found",
          .suffixes = {".zz", ".zlib"},
          .single_stream = true,
          .forward = true,
          .codec = "zlib",
          .checks_data = true,
          .recognise = recognise_zlib,
          .open = open_zlib_file};
}

}  // namespace operculum

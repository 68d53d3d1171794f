#include "base/cursor.h"
#include "container/identify.h"
#include "format/stream/formats.h"
#include "format/stream/single_stream.h"

namespace operculum {
namespace {

constexpr std::uint32_t kFrameMagic = 0x184D2204, kLegacyMagic = 0x184C2102;

Match recognise_lz4(Probe& probe) {
  ByteView head = probe.head(7);
  if (head.size() < 7) return Match::none;
  std::uint32_t magic = Cursor(head, "lz4 frame").u32le();
  if (magic != kFrameMagic && magic != kLegacyMagic) return Match::none;
  return try_decoding("lz4", probe) == Trial::fails ? Match::none : Match::front;
}

ContainerPtr open_lz4_file(const Input& input, OpenContext&) {
  SingleStream stream{.codec = "lz4"};
  Probe probe = make_probe(*input.content, input.name);
  Cursor cursor(probe.head(16), "lz4 frame");
  if (cursor.u32le() == kLegacyMagic) stream.facts.emplace_back("frame", "legacy");
  return make_single_stream(input, std::move(stream), {{".lz4", ""}, {".tlz4", ".tar"}});
}

}  // namespace

Format lz4_format() {
  return {
      .id = "lz4",
      .name = "LZ4 file",
      .family = "stream",
      .specification = "LZ4 frame format 1.6.2",
      .reads = "several frames, skippable and legacy frames, header, block and content checksums verified",
      .lacks = "dictionaries",
      .writes = "its frames, each packed with the settings of the original where they can be found",
      .suffixes = {".lz4", ".tlz4"},
      .single_stream = true,
      .forward = true,
      .codec = "lz4",
      .recognise = recognise_lz4,
      .open = open_lz4_file};
}

}  // namespace operculum

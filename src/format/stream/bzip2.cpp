#include "format/stream/formats.h"
#include "format/stream/single_stream.h"

namespace operculum {
namespace {

constexpr std::string_view kBlockMark = "\x31\x41\x59\x26\x53\x59";  // the digits of pi
constexpr std::string_view kEndMark = "\x17\x72\x45\x38\x50\x90";    // those of its square root

Match recognise_bzip2(Probe& probe) {
  ByteView head = probe.head(10);
  if (!starts_with(head, "BZh") || head.size() < 4 || head[3] < '1' || head[3] > '9') return Match::none;
  std::string_view mark = as_text(head.subspan(4));
  return kBlockMark.starts_with(mark) || kEndMark.starts_with(mark) ? Match::front : Match::none;
}

ContainerPtr open_bzip2_file(const Input& input, OpenContext&) {
  return make_single_stream(input, {.codec = "bzip2"}, {{".bz2", ""}, {".tbz2", ".tar"}, {".tbz", ".tar"}});
}

}  // namespace

Format bzip2_format() {
  return {.id = "bzip2",
          .name = "bzip2 file",
          .family = "stream",
          .specification = "bzip2 1.0 stream format",
          .reads = "several streams, block and stream CRCs verified",
          .lacks = "",
          .writes = "its streams, each packed with the settings of the original where they can be found",
          .suffixes = {".bz2", ".tbz2", ".tbz"},
          .single_stream = true,
          .forward = true,
          .codec = "bzip2",
          .checks_data = true,
          .recognise = recognise_bzip2,
          .open = open_bzip2_file};
}

}  // namespace operculum

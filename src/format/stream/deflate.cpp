// Raw deflate data (RFC 1951): no header, no size, no checksum. What tells it is a first block with codes of
// its own, and that it decodes; what is all there has to end where the bytes end.
#include "codec/deflate_front.h"
#include "format/stream/formats.h"
#include "format/stream/single_stream.h"

namespace operculum {
namespace {

constexpr std::uint64_t kLeastPlain = 512;     // bytes
constexpr std::size_t kConvincing = 64 << 10;  // bytes that come out of data that goes on

Match recognise_deflate(Probe& probe) {
  ByteView head = probe.head(kDeflateHeadSize);
  if (head.empty() || DeflateFronts().next(head, 0, 1) != 0) return Match::none;
  ByteView front = probe.head(Probe::kReach);
  if (front.size() == Probe::kReach)
    return try_decoding("deflate", probe, kConvincing) == Trial::decodes ? Match::front : Match::none;
  std::uint64_t may_read = Probe::kReach;
  SourcePtr whole = make_memory_source(Bytes(front.begin(), front.end()));
  auto extent = deflate_extent(whole, 0, whole->size(), "deflate", may_read);
  bool fits = extent && extent->packed == whole->size() && extent->plain >= kLeastPlain;
  return fits ? Match::front : Match::none;
}

ContainerPtr open_deflate_file(const Input& input, OpenContext&) {
  return make_single_stream(input, {.codec = "deflate"}, {{".deflate", ""}});
}

}  // namespace

Format deflate_format() {
  return {.id = "deflate",
          .name = "raw deflate stream",
          .family = "stream",
          .specification = "RFC 1951",
          .reads = "data whose first block has codes of its own; there is no checksum",
          .lacks = "data that begins with a stored block or with the fixed codes: chance looks like it",
          .writes = "packed with the settings of the original where they can be found",
          .suffixes = {".deflate"},
          .single_stream = true,
          .forward = true,
          .recognise = recognise_deflate,
          .open = open_deflate_file};
}

}  // namespace operculum

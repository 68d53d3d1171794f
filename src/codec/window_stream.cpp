#include "codec/window_stream.h"

#include <algorithm>
#include <cstring>

namespace operculum {
namespace {

constexpr std::size_t kPiece = 4096;  // bytes that are decoded before they are given away

}  // namespace

// What was not given away yet must not be overwritten: the ring has room for a piece beside the window.
WindowStream::WindowStream(std::size_t window, std::optional<std::uint64_t> size)
    : ring_(2 * std::max(window, kPiece)),
      mask_(ring_.size() - 1),
      size_(size.value_or(UINT64_MAX)),
      size_known_(size.has_value()) {}

void WindowStream::go_on_copying() {
  std::uint64_t count = std::min<std::uint64_t>({copies_, kPiece / 2, size_ - made_});
  std::size_t to = made_ & mask_, from = (made_ - distance_) & mask_;
  if (distance_ >= count && std::max(to, from) + count <= ring_.size()) {
    std::memcpy(ring_.data() + to, ring_.data() + from, count);
  } else {
    for (std::uint64_t i = 0; i < count; ++i) ring_[(to + i) & mask_] = ring_[(from + i) & mask_];
  }
  made_ += count;
  copies_ -= count;
}

std::size_t WindowStream::read(ByteSpan out) {
  std::size_t done = 0;
  for (bool more = true; more && done < out.size() && given_ < size_;) {
    std::uint64_t wanted = std::min<std::uint64_t>({out.size() - done, kPiece / 2, size_ - given_});
    while (more && made_ - given_ < wanted) {
      if (copies_ > 0) {
        go_on_copying();
      } else {
        more = next();
      }
    }
    std::uint64_t count = std::min(made_ - given_, wanted);
    std::size_t from = given_ & mask_, first = std::min<std::size_t>(count, ring_.size() - from);
    std::memcpy(out.data() + done, ring_.data() + from, first);
    std::memcpy(out.data() + done + first, ring_.data(), count - first);
    given_ += count;
    done += count;
  }
  return done;
}

}  // namespace operculum

#pragma once

#include <algorithm>
#include <cstring>

#include "base/bytes.h"

namespace operculum {

/// What frames that share a window are decoded into: at least a window's worth of bytes stays in front of the
/// next frame.
class History {
 public:
  /// Both in bytes; no frame is longer than `frame`.
  History(std::size_t window, std::size_t frame) : window_(window), buffer_(2 * window + frame) {}

  const Byte* begin() const { return buffer_.data(); }  ///< how far copies may reach back
  std::size_t window() const { return window_; }

  /// Room for the next `size` bytes; moves what is in front of it when there is none left.
  Byte* room(std::size_t size) {
    if (at_ + size > buffer_.size()) {
      std::size_t keep = std::min(at_, window_);
      std::memmove(buffer_.data(), buffer_.data() + at_ - keep, keep);
      at_ = keep;
    }
    return buffer_.data() + at_;
  }
  /// The bytes that room() gave were filled.
  void filled(std::size_t size) { at_ += size; }

 private:
  std::size_t window_, at_ = 0;
  Bytes buffer_;
};

}  // namespace operculum

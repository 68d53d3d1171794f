#pragma once

#include <algorithm>
#include <string>

#include "base/error.h"
#include "io/input_buffer.h"

namespace operculum {

/// A stream whose packed bytes are blocks that decode as a whole, one after another.
class BlockwiseStream : public Stream {
 public:
  std::size_t read(ByteSpan out) final {
    while (at_ == block_.size()) {
      block_.clear();
      at_ = 0;
      if (!next_block()) return 0;
    }
    std::size_t count = std::min(out.size(), block_.size() - at_);
    std::copy_n(block_.begin() + static_cast<std::ptrdiff_t>(at_), count, out.begin());
    at_ += count;
    return count;
  }

 protected:
  explicit BlockwiseStream(StreamPtr packed) : input_(std::move(packed)) {}

  /// Puts the next block's plain bytes into `block_`, which is empty, and may stay so; false at the end.
  virtual bool next_block() = 0;

  /// The next packed bytes; throws CutShort with `cut` when they are not all there.
  Bytes take(std::size_t count, const std::string& cut) {
    Bytes out;
    while (out.size() < count) {
      ByteView there = input_.view();
      if (there.empty()) throw CutShort(cut);
      there = there.first(std::min(there.size(), count - out.size()));
      out.insert(out.end(), there.begin(), there.end());
      input_.consume(there.size());
    }
    return out;
  }

  InputBuffer input_;
  Bytes block_;

 private:
  std::size_t at_ = 0;
};

}  // namespace operculum

#pragma once

#include <fmt/format.h>

#include "base/error.h"
#include "codec/huffman.h"
#include "io/input_buffer.h"

namespace operculum {

/// Bits of a stream, the lowest of each byte first.
class LowBits {
 public:
  /// `codec` is named in errors.
  LowBits(StreamPtr packed, std::string_view codec) : input_(std::move(packed)), codec_(codec) {}

  /// The next bits as a number, 0 to 32 of them. Throws CutShort.
  std::uint32_t take(unsigned count) {
    while (bits_.count() < count) {
      ByteView in = input_.view();
      if (in.empty())
        throw CutShort(fmt::format("{} data: the data ends too early; it is cut short", codec_));
      bits_.feed(in[0]);
      input_.consume(1);
    }
    return bits_.take(count);
  }
  /// Whether so many bits are left; fewer than a byte are padding.
  bool has(unsigned count) {
    while (bits_.count() < count) {
      ByteView in = input_.view();
      if (in.empty()) return false;
      bits_.feed(in[0]);
      input_.consume(1);
    }
    return true;
  }
  [[noreturn]] void damaged(std::string_view what) const {
    throw Malformed(fmt::format("{} data: {}; the data is damaged", codec_, what));
  }

 private:
  InputBuffer input_;
  BitReader bits_;
  std::string_view codec_;
};

}  // namespace operculum

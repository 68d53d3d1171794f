// Reducing with factor 1 to 4 (APPNOTE 5.2): bytes are told by which of at most 32 followers of the byte
// before they are; what comes out of that are literals and copies.
//
//   for each byte from 255 down to 0: 6 bits with the number of its followers, and these, 8 bits each
//   then bytes: 8 bits where the one before has no followers; else bit 1 and 8 bits, or bit 0 and a number
//   of these bytes 144 begins a copy: lengths and the distance's upper part, perhaps more length, its lower
//   part; 144 and 0 are 144 itself
#include <algorithm>
#include <array>
#include <bit>
#include <utility>

#include "codec/decoders.h"
#include "codec/low_bits.h"
#include "codec/window_stream.h"

namespace operculum {
namespace {

constexpr unsigned kBytes = 256, kMostFollowers = 32, kFollowerBits = 6;
constexpr Byte kCopyMark = 144;
constexpr std::size_t kWindow = 4096;  // 16 upper parts of 256, with factor 4

class ReduceStream final : public WindowStream {
 public:
  ReduceStream(StreamPtr packed, unsigned factor, std::optional<std::uint64_t> size)
      : WindowStream(kWindow, size), bits_(std::move(packed), "reduced"), length_bits_(8 - factor) {}

 private:
  bool next() override {
    if (!std::exchange(begun_, true)) read_followers();
    if (!size_known() && !bits_.has(8)) return false;
    Byte first = next_byte();
    if (first != kCopyMark) {
      literal(first);
      return true;
    }
    unsigned head = next_byte();
    if (head == 0) {
      literal(kCopyMark);
      return true;
    }
    unsigned longest = (1u << length_bits_) - 1, length = head & longest;
    if (length == longest) length += next_byte();
    std::uint64_t distance = (head >> length_bits_) * kBytes + next_byte() + 1;
    copy(distance, length + 3);
    return true;
  }

  void read_followers() {
    for (unsigned i = kBytes; i-- > 0;) {
      unsigned count = bits_.take(kFollowerBits);
      if (count > kMostFollowers) bits_.damaged(fmt::format("{} followers of a byte, 32 at most", count));
      counts_[i] = static_cast<Byte>(count);
      for (unsigned j = 0; j < count; ++j) followers_[i][j] = static_cast<Byte>(bits_.take(8));
    }
  }

  Byte next_byte() {
    unsigned count = counts_[last_];
    if (count == 0 || bits_.take(1) == 1) return last_ = static_cast<Byte>(bits_.take(8));
    auto width = std::max(1u, static_cast<unsigned>(std::bit_width(count - 1)));
    unsigned number = bits_.take(width);
    if (number >= count) bits_.damaged(fmt::format("follower {} of {}", number, count));
    return last_ = followers_[last_][number];
  }

  LowBits bits_;
  unsigned length_bits_;
  bool begun_ = false;
  Byte last_ = 0;
  std::array<Byte, kBytes> counts_{};
  std::array<std::array<Byte, kMostFollowers>, kBytes> followers_{};
};

}  // namespace

template <unsigned Factor>
StreamPtr open_reduce(StreamPtr packed, const CodecOptions& options) {
  return std::make_unique<ReduceStream>(std::move(packed), Factor, options.unpacked_size);
}
template StreamPtr open_reduce<1>(StreamPtr, const CodecOptions&);
template StreamPtr open_reduce<2>(StreamPtr, const CodecOptions&);
template StreamPtr open_reduce<3>(StreamPtr, const CodecOptions&);
template StreamPtr open_reduce<4>(StreamPtr, const CodecOptions&);

}  // namespace operculum

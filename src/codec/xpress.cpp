#include "codec/xpress.h"

#include <fmt/format.h>

#include "codec/word_bits.h"

namespace operculum {
namespace {

constexpr std::size_t kSymbols = 512, kTableBytes = kSymbols / 2, kBlock = 65536;
constexpr unsigned kLiterals = 256, kLengthMask = 15, kShortestCopy = 3;

[[noreturn]] void fail(std::string_view what) {
  throw Malformed(fmt::format("XPRESS data: {}", what));
}

/// Bits from 16-bit words between which bytes lie: a word is read as soon as fewer than 16 bits are left, for
/// the bytes' place depends on it.
class MixedBits {
 public:
  explicit MixedBits(ByteView packed) : packed_(packed) {
    bits_ = word() << 16;
    bits_ |= word();
  }
  std::uint32_t peek(unsigned bits) const { return bits_ >> (32 - bits); }
  void drop(unsigned bits) {
    bits_ <<= bits;
    extra_ -= static_cast<int>(bits);
    if (extra_ < 0) {
      bits_ |= word() << -extra_;
      extra_ += 16;
    }
  }
  std::uint32_t take(unsigned bits) {
    if (bits == 0) return 0;
    std::uint32_t value = peek(bits);
    drop(bits);
    return value;
  }
  std::uint32_t bytes(std::size_t count) {
    if (packed_.size() - std::min(packed_.size(), at_) < count)
      fail("the data ends too early; it is cut short");
    std::uint32_t value = 0;
    for (std::size_t i = 0; i < count; ++i) value |= std::uint32_t{packed_[at_ + i]} << (8 * i);
    at_ += count;
    return value;
  }
  bool overrun() const { return at_ > packed_.size() + 4; }
  std::size_t position() const { return std::min(at_, packed_.size()); }

 private:
  std::uint32_t word() {
    std::uint32_t value =
        at_ + 2 <= packed_.size() ? load_little<std::uint16_t>(packed_.data() + at_) : std::uint32_t{0};
    at_ += 2;
    return value;
  }

  ByteView packed_;
  std::size_t at_ = 0;
  std::uint32_t bits_ = 0;
  int extra_ = 16;
};

}  // namespace

void decode_xpress(ByteView packed, ByteSpan out) {
  auto code = std::make_unique<WordCode<kSymbols, 11>>();
  const Byte* begin = out.data();
  Byte* at = out.data();
  Byte* const end = at + out.size();
  while (at < end) {
    if (packed.size() < kTableBytes) fail("the data ends within a code table; it is cut short");
    std::array<Byte, kSymbols> lengths;
    for (std::size_t i = 0; i < kTableBytes; ++i) {
      lengths[2 * i] = packed[i] & 15;
      lengths[2 * i + 1] = packed[i] >> 4;
    }
    if (!code->build(lengths)) fail("its code is not possible");
    MixedBits bits(packed.subspan(kTableBytes));
    Byte* const stop = at + std::min<std::size_t>(kBlock, static_cast<std::size_t>(end - at));
    while (at < stop) {
      unsigned symbol = code->decode(bits);
      if (bits.overrun()) fail("the data ends too early; it is cut short");
      if (symbol < kLiterals) {
        *at++ = static_cast<Byte>(symbol);
        continue;
      }
      symbol -= kLiterals;
      std::size_t length = symbol & kLengthMask;
      unsigned distance_bits = symbol >> 4;
      if (length == kLengthMask) {
        length = bits.bytes(1);
        if (length < 255) {
          length += kLengthMask;
        } else {
          length = bits.bytes(2);
          if (length == 0) length = bits.bytes(4);
          if (length < kLengthMask) fail("a length that has a shorter form");
        }
      }
      length += kShortestCopy;
      std::size_t distance = (std::size_t{1} << distance_bits) + bits.take(distance_bits);
      if (distance > static_cast<std::size_t>(at - begin)) fail("a copy from before the first byte");
      if (length > static_cast<std::size_t>(end - at)) fail("a copy runs beyond the end");
      copy_back(at, distance, length, end);
      at += length;
    }
    packed = packed.subspan(kTableBytes + bits.position());
  }
}

}  // namespace operculum

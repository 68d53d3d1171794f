#pragma once

#include <array>
#include <vector>

#include "base/bytes.h"
#include "base/error.h"

namespace operculum {

/// Bits taken from a byte run, lowest bit of each byte first, as deflate packs them. The caller feeds
/// whole bytes and looks at count() before it takes; no more than 56 bits are kept.
class BitReader {
 public:
  void feed(Byte b) {
    buffer_ |= std::uint64_t{b} << count_;
    count_ += 8;
  }
  unsigned count() const { return count_; }
  std::uint32_t peek(unsigned bits) const {
    return static_cast<std::uint32_t>(buffer_ & ((std::uint64_t{1} << bits) - 1));
  }
  void drop(unsigned bits) {
    buffer_ >>= bits;
    count_ -= bits;
  }
  std::uint32_t take(unsigned bits) {
    std::uint32_t value = peek(bits);
    drop(bits);
    return value;
  }

 private:
  std::uint64_t buffer_ = 0;
  unsigned count_ = 0;
};

/// A canonical prefix code of up to 15 bits, as RFC 1951 section 3.2.2 builds it from code lengths: one table
/// look-up for every symbol.
class PrefixCode {
 public:
  static constexpr unsigned kMaxBits = 15;

  /// `lengths[s]` is the length of symbol s in bits, 0 when it does not occur. Throws Malformed when the
  /// lengths claim more codes than there are; an incomplete code is allowed, its unused codes are refused
  /// when met.
  void build(std::span<const Byte> lengths);

  /// The next symbol; at least kMaxBits bits, or all that are left, must be in `bits`.
  unsigned decode(BitReader& bits) const {
    Slot slot = table_[bits.peek(table_bits_)];
    if (slot.length == 0 || slot.length > bits.count())
      throw Malformed("deflate64 data: an unused code; the data is damaged");
    bits.drop(slot.length);
    return slot.symbol;
  }

 private:
  struct Slot {
    std::uint16_t symbol = 0;
    std::uint16_t length = 0;
  };
  std::vector<Slot> table_;
  unsigned table_bits_ = 0;
};

}  // namespace operculum

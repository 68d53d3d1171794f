#pragma once

#include <algorithm>
#include <array>
#include <cstring>
#include <memory>
#include <vector>

#include "base/bytes.h"
#include "base/cursor.h"
#include "base/error.h"

namespace operculum {

/// Bits taken from 16-bit little-endian words, the highest bit of each first, as LZX and XPRESS pack them.
/// Behind the end come zeros; finish() tells whether any of them were used.
class WordBits {
 public:
  explicit WordBits(ByteView packed) : at_(packed.data()), end_(packed.data() + packed.size()) {}

  /// Makes at least 48 bits available. Behind count_ the buffer may hold bits of the next word already: they
  /// come again with the next refill.
  void refill() {
    if (end_ - at_ >= 8) [[likely]] {
      auto words = load_little<std::uint64_t>(at_);
      words = words >> 32 | words << 32;
      words = (words & 0xFFFF0000FFFF0000) >> 16 | (words & 0x0000FFFF0000FFFF) << 16;
      buffer_ |= words >> count_;
      unsigned taken = (63 - count_) / 16;
      at_ += std::size_t{taken} * 2;
      count_ += taken * 16;
      return;
    }
    while (count_ < 48) {
      std::uint64_t word = 0;
      if (end_ - at_ >= 2) {
        word = load_little<std::uint16_t>(at_);
        at_ += 2;
      } else {
        ++behind_;
      }
      buffer_ |= word << (48 - count_);
      count_ += 16;
    }
  }
  /// `bits` from 1 to 16 of those that are available.
  std::uint32_t peek(unsigned bits) const { return static_cast<std::uint32_t>(buffer_ >> (64 - bits)); }
  void drop(unsigned bits) {
    buffer_ <<= bits;
    count_ -= bits;
  }
  /// The next `bits`, 0 to 32.
  std::uint32_t take(unsigned bits) {
    refill();
    return take_available(bits);
  }
  /// The next `bits`, 0 to 32, which must be available.
  std::uint32_t take_available(unsigned bits) {
    auto value = static_cast<std::uint32_t>(buffer_ >> 1 >> (63 - bits));
    drop(bits);
    return value;
  }

  /// Passes over what is left of the current word; with `whole` a full word when nothing is.
  void align(bool whole) {
    unsigned part = count_ % 16;
    if (part == 0 && whole) {
      refill();
      part = 16;
    }
    drop(part);
  }
  /// Bytes from where the next word begins on; the bits must be aligned.
  ByteView rest() const { return {position(), static_cast<std::size_t>(end_ - position())}; }
  /// Goes on `count` bytes behind rest()'s begin.
  void restart(std::size_t count) {
    at_ = position() + count;
    buffer_ = 0;
    count_ = 0;
    behind_ = 0;
  }
  /// Whether bits were taken that were not there.
  bool overrun() const { return behind_ * 16 > count_; }

 private:
  const Byte* position() const {
    std::size_t unread = behind_ * 2 < count_ / 8 ? count_ / 8 - behind_ * 2 : 0;
    return at_ - unread;
  }

  const Byte* at_;
  const Byte* end_;
  std::uint64_t buffer_ = 0;  // the next bit is the highest
  unsigned count_ = 0;
  std::size_t behind_ = 0;  // words of zeros that were added
};

/// A canonical prefix code of `Symbols` symbols and up to 16 bits, read from the highest bit on: a table
/// answers for codes of up to `TableBits`, counting for longer ones.
template <std::size_t Symbols, unsigned TableBits>
class WordCode {
 public:
  static constexpr unsigned kMostBits = 16;

  /// `lengths[s]` is the length of symbol s in bits, 0 when it does not occur. An incomplete code is allowed,
  /// its unused codes are refused when met. False when the lengths claim more codes than there are.
  [[nodiscard]] bool build(std::span<const Byte> lengths) {
    std::array<std::uint32_t, kMostBits + 2> count{};
    for (Byte length : lengths) ++count[length];
    count[0] = 0;
    std::uint32_t code = 0, index = 0;
    std::array<std::uint32_t, kMostBits + 2> next{};
    for (unsigned bits = 1; bits <= kMostBits; ++bits) {
      next[bits] = index;
      shift_[bits] = static_cast<std::int32_t>(index) - static_cast<std::int32_t>(code);
      index += count[bits];
      code += count[bits];
      if (code > (1u << bits)) return false;
      limit_[bits] = code << (kMostBits - bits);
      code <<= 1;
    }
    for (std::size_t symbol = 0; symbol < lengths.size(); ++symbol) {
      if (lengths[symbol] != 0) sorted_[next[lengths[symbol]]++] = static_cast<std::uint16_t>(symbol);
    }
    std::size_t slot = 0;
    index = 0;
    for (unsigned bits = 1; bits <= TableBits; ++bits) {
      for (std::uint32_t i = 0; i < count[bits]; ++i, ++index) {
        std::size_t span = std::size_t{1} << (TableBits - bits);
        std::fill_n(table_.begin() + static_cast<std::ptrdiff_t>(slot), span,
                    Slot{sorted_[index], static_cast<std::uint16_t>(bits)});
        slot += span;
      }
    }
    std::fill(table_.begin() + static_cast<std::ptrdiff_t>(slot), table_.end(), Slot{});
    return true;
  }

  /// The next symbol; at least kMostBits bits must be available. Throws Malformed for an unused code.
  template <typename Bits>
  unsigned decode(Bits& bits) const {
    Slot slot = table_[bits.peek(TableBits)];
    if (slot.length != 0) [[likely]] {
      bits.drop(slot.length);
      return slot.symbol;
    }
    return decode_long(bits);
  }

 private:
  struct Slot {
    std::uint16_t symbol = 0, length = 0;
  };

  template <typename Bits>
  unsigned decode_long(Bits& bits) const {
    std::uint32_t next = bits.peek(kMostBits);
    for (unsigned length = TableBits + 1; length <= kMostBits; ++length) {
      if (next >= limit_[length]) continue;
      bits.drop(length);
      std::int64_t code = next >> (kMostBits - length);
      return sorted_[static_cast<std::size_t>(code + shift_[length])];
    }
    throw Malformed("an unused code; the data is damaged");
  }

  std::array<Slot, std::size_t{1} << TableBits> table_;
  std::array<std::uint16_t, Symbols> sorted_;
  std::array<std::uint32_t, kMostBits + 1> limit_{};  // the first code too great for a length, in 16 bits
  std::array<std::int32_t, kMostBits + 1> shift_{};   // from a code of a length to its place in sorted_
};

/// Copies `length` bytes within a buffer from `distance` bytes back; the two runs may overlap. Nothing is
/// written beyond `end`.
inline void copy_back(Byte* to, std::size_t distance, std::size_t length, const Byte* end) {
  const Byte* from = to - distance;
  if (distance >= 16 && static_cast<std::size_t>(end - to) >= length + 32) [[likely]] {
    std::memcpy(to, from, 16);
    std::memcpy(to + 16, from + 16, 16);
    for (std::size_t done = 32; done < length; done += 16) std::memcpy(to + done, from + done, 16);
    return;
  }
  if (distance >= 8 && static_cast<std::size_t>(end - to) >= length + 8) [[likely]] {
    Byte* stop = to + length;
    do {
      std::memcpy(to, from, 8);
      to += 8;
      from += 8;
    } while (to < stop);
    return;
  }
  if (distance == 1) {
    std::memset(to, *from, length);
    return;
  }
  for (std::size_t i = 0; i < length; ++i) to[i] = from[i];
}

}  // namespace operculum

#include "codec/lzh.h"

#include <fmt/format.h>

#include <array>

#include "base/error.h"
#include "codec/lzh_numbers.h"
#include "io/input_buffer.h"

namespace operculum {
namespace {

using namespace lzh;

/// Bits from the highest of each byte on; behind the end come zeros, and too many of them are an error.
class HighBits {
 public:
  explicit HighBits(StreamPtr packed) : input_(std::move(packed)) {}
  std::uint32_t peek(unsigned bits) {
    while (count_ < bits) fill();
    return static_cast<std::uint32_t>(buffer_ >> (count_ - bits)) & ((1u << bits) - 1);
  }
  void drop(unsigned bits) { count_ -= bits; }
  std::uint32_t take(unsigned bits) {
    if (bits == 0) return 0;
    std::uint32_t value = peek(bits);
    drop(bits);
    return value;
  }
  bool at_end() { return count_ < 8 && input_.view().empty(); }

 private:
  void fill() {
    ByteView view = input_.view();
    if (view.empty()) {
      if (++behind_ > 8) throw CutShort("lzh data: the data ends too early; it is cut short");
      buffer_ <<= 8;
    } else {
      buffer_ = (buffer_ << 8) | view[0];
      input_.consume(1);
    }
    count_ += 8;
  }
  InputBuffer input_;
  std::uint64_t buffer_ = 0;
  unsigned count_ = 0, behind_ = 0;
};

/// A canonical code with bits from the highest on; a table answers for short codes, counting for long ones.
class HighCode {
 public:
  /// A code of one symbol takes no bits.
  void single(unsigned symbol) {
    lone_ = true;
    symbols_.assign(1, static_cast<std::uint16_t>(symbol));
  }

  void build(std::span<const Byte> lengths) {
    lone_ = false;
    std::array<std::uint32_t, kMostBits + 2> count{};
    for (Byte length : lengths) ++count[length];
    count[0] = 0;
    std::uint32_t code = 0, index = 0;
    for (unsigned bits = 1; bits <= kMostBits; ++bits) {
      code = (code + count[bits - 1]) << 1;
      first_[bits] = code;
      begin_[bits] = index;
      count_[bits] = count[bits];
      index += count[bits];
      if (code + count[bits] > (1u << bits))
        throw Malformed("lzh data: a code with more symbols than it has room for; the data is damaged");
    }
    symbols_.assign(index, 0);
    std::array<std::uint32_t, kMostBits + 1> next{};
    for (unsigned bits = 1; bits <= kMostBits; ++bits) next[bits] = begin_[bits];
    for (std::size_t symbol = 0; symbol < lengths.size(); ++symbol) {
      if (lengths[symbol] != 0) symbols_[next[lengths[symbol]]++] = static_cast<std::uint16_t>(symbol);
    }
    table_.fill({0, 0});
    for (unsigned bits = 1; bits <= kTableBits; ++bits) {
      for (std::uint32_t i = 0; i < count_[bits]; ++i) {
        std::uint32_t from = (first_[bits] + i) << (kTableBits - bits);
        for (std::uint32_t slot = 0; slot < (1u << (kTableBits - bits)); ++slot)
          table_[from + slot] = {symbols_[begin_[bits] + i], static_cast<std::uint16_t>(bits)};
      }
    }
  }

  unsigned decode(HighBits& bits) const {
    if (lone_) return symbols_[0];
    std::uint32_t ahead = bits.peek(kMostBits);
    Slot slot = table_[ahead >> (kMostBits - kTableBits)];
    if (slot.bits != 0) {
      bits.drop(slot.bits);
      return slot.symbol;
    }
    for (unsigned length = kTableBits + 1; length <= kMostBits; ++length) {
      std::uint32_t code = ahead >> (kMostBits - length);
      if (code - first_[length] < count_[length] && code >= first_[length]) {
        bits.drop(length);
        return symbols_[begin_[length] + code - first_[length]];
      }
    }
    throw Malformed("lzh data: an unused code; the data is damaged");
  }

 private:
  static constexpr unsigned kTableBits = 11;
  struct Slot {
    std::uint16_t symbol, bits;
  };
  bool lone_ = true;
  std::vector<std::uint16_t> symbols_ = {0};
  std::array<std::uint32_t, kMostBits + 1> first_{}, begin_{}, count_{};
  std::array<Slot, 1 << kTableBits> table_{};
};

class LzhStream final : public Stream {
 public:
  LzhStream(StreamPtr packed, unsigned window_bits, std::optional<std::uint64_t> size)
      : bits_(std::move(packed)),
        size_known_(size.has_value()),
        left_(size.value_or(UINT64_MAX)),
        positions_(window_bits + 1),
        position_bits_(window_bits > kShortPlaceWindow ? 5 : 4),
        window_(std::size_t{1} << window_bits, 0x20) {}

  std::size_t read(ByteSpan out) override {
    std::size_t done = 0;
    while (done < out.size() && left_ > 0) {
      if (copy_ == 0) {
        if (block_ == 0) {
          if (!size_known_ && bits_.at_end()) break;
          begin_block();
        }
        --block_;
        unsigned symbol = literals_.decode(bits_);
        if (symbol < 256) {
          put(out, done, static_cast<Byte>(symbol));
          continue;
        }
        copy_ = symbol - 256 + kShortestCopy;
        unsigned position = places_.decode(bits_);
        if (position > 1) position = (1u << (position - 1)) + bits_.take(position - 1);
        from_ = (at_ + window_.size() - position - 1) & (window_.size() - 1);
      }
      while (copy_ > 0 && done < out.size() && left_ > 0) {
        put(out, done, window_[from_]);
        from_ = (from_ + 1) & (window_.size() - 1);
        --copy_;
      }
    }
    return done;
  }

 private:
  void put(ByteSpan out, std::size_t& done, Byte b) {
    out[done++] = b;
    window_[at_] = b;
    at_ = (at_ + 1) & (window_.size() - 1);
    --left_;
  }

  void begin_block() {
    block_ = bits_.take(16);
    if (block_ == 0) throw Malformed("lzh data: an empty block; the data is damaged");
    read_lengths(lengths_, kLengthSymbols, kLengthBits, kLengthGap);
    read_literals();
    read_lengths(places_, positions_, position_bits_, UINT32_MAX);
  }

  /// Code lengths in three bits, 7 and more with a one for each further; behind the third of them a gap may
  /// stand.
  void read_lengths(HighCode& code, unsigned symbols, unsigned width, unsigned gap) {
    unsigned count = bits_.take(width);
    if (count == 0) return code.single(checked(bits_.take(width), symbols));
    checked(count - 1, symbols);
    Bytes lengths(symbols);
    for (unsigned i = 0; i < count;) {
      unsigned length = bits_.take(3);
      if (length == 7) {
        while (bits_.take(1) == 1) {
          if (++length > kMostBits)
            throw Malformed("lzh data: a code of more than 16 bits; the data is damaged");
        }
      }
      lengths[i++] = static_cast<Byte>(length);
      if (i == gap) i = std::min(i + bits_.take(2), symbols);
    }
    code.build(lengths);
  }

  void read_literals() {
    unsigned count = bits_.take(kSymbolBits);
    if (count == 0) return literals_.single(checked(bits_.take(kSymbolBits), kSymbols));
    checked(count - 1, kSymbols);
    Bytes lengths(kSymbols);
    for (unsigned i = 0; i < count;) {
      unsigned symbol = lengths_.decode(bits_);
      if (symbol > 2) {
        lengths[i++] = static_cast<Byte>(symbol - 2);
        continue;
      }
      i += symbol == 0 ? 1 : symbol == 1 ? bits_.take(4) + 3 : bits_.take(kSymbolBits) + 20;
    }
    literals_.build(lengths);
  }

  static unsigned checked(unsigned value, unsigned limit) {
    if (value >= limit)
      throw Malformed(fmt::format("lzh data: symbol {} of {}; the data is damaged", value, limit));
    return value;
  }

  HighBits bits_;
  bool size_known_;
  std::uint64_t left_;
  unsigned positions_, position_bits_;
  Bytes window_;
  std::size_t at_ = 0, from_ = 0;
  std::uint64_t copy_ = 0, block_ = 0;
  HighCode lengths_, literals_, places_;
};

}  // namespace

void lzh::check_window(unsigned window_bits) {
  if (window_bits < 8 || window_bits > 20)
    throw Malformed(fmt::format("lzh: a window of {} bits; 8 to 20 are known", window_bits));
}

StreamPtr open_lzh(StreamPtr packed, unsigned window_bits, std::optional<std::uint64_t> size) {
  lzh::check_window(window_bits);
  return std::make_unique<LzhStream>(std::move(packed), window_bits, size);
}

}  // namespace operculum

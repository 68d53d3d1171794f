#pragma once

#include <functional>
#include <vector>

#include "base/bytes.h"

namespace operculum::test {

/// A literal (length 0) or a copy.
struct LzItem {
  std::size_t length = 0, distance = 0;
  Byte literal = 0;
};

/// What an LZ77 coder may emit.
struct LzRules {
  std::size_t window = 32768, least = 3, longest = 257;
  std::size_t frame = SIZE_MAX;  ///< copies end at multiples of it
};

/// `plain` as literals and copies, found with chains of hashed positions.
std::vector<LzItem> find_copies(ByteView plain, const LzRules& rules);

/// Lengths of a canonical prefix code for symbols with these counts, none longer than `most` bits; a single
/// symbol gets one bit.
std::vector<Byte> code_lengths(const std::vector<std::size_t>& counts, unsigned most);

/// The codes that belong to such lengths, highest bit first.
std::vector<std::uint32_t> canonical_codes(const std::vector<Byte>& lengths);

/// Bits into 16-bit little-endian words, the highest first.
class WordBitWriter {
 public:
  void put(std::uint32_t value, unsigned bits) {
    while (bits-- > 0) {
      word_ = static_cast<std::uint16_t>(word_ << 1 | (value >> bits & 1));
      if (++count_ == 16) flush();
    }
  }
  /// Fills up the word; with `whole` a full word when nothing is begun.
  void align(bool whole) {
    if (count_ == 0 && !whole) return;
    word_ = static_cast<std::uint16_t>(word_ << (16 - count_));
    flush();
  }
  void raw(ByteView bytes) { out_.insert(out_.end(), bytes.begin(), bytes.end()); }
  Bytes take() {
    align(false);
    return std::move(out_);
  }

 private:
  void flush() {
    out_.push_back(static_cast<Byte>(word_ & 0xFF));
    out_.push_back(static_cast<Byte>(word_ >> 8));
    word_ = 0;
    count_ = 0;
  }
  Bytes out_;
  std::uint16_t word_ = 0;
  unsigned count_ = 0;
};

}  // namespace operculum::test

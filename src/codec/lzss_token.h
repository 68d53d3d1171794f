#pragma once

#include <cstdint>
#include <string>

#include "base/error.h"

namespace operculum {

/// Which bits of a copy's token belong to which part.
struct LzssToken {
  struct Part {
    unsigned bits = 0;
    std::uint64_t mask = 0;  // of the token, highest bit first
  };
  Part low_offset, high_offset, low_length, high_length;
  unsigned bytes = 0;

  explicit LzssToken(const std::string& pattern) {
    unsigned bits = 0;
    for (char c : pattern) {
      if (c == ' ') continue;
      Part* part = c == 'p'   ? &low_offset
                   : c == 'P' ? &high_offset
                   : c == 'l' ? &low_length
                   : c == 'L' ? &high_length
                              : nullptr;
      if (part == nullptr && c != '.')
        throw Malformed("lzss: a token is written with p P l L and . for unused bits");
      for (Part* each : {&low_offset, &high_offset, &low_length, &high_length}) each->mask <<= 1;
      if (part != nullptr) {
        part->mask |= 1;
        ++part->bits;
      }
      ++bits;
    }
    if (bits % 8 != 0 || bits == 0 || bits > 32) throw Malformed("lzss: a token has 8, 16, 24 or 32 bits");
    bytes = bits / 8;
  }
  static std::uint64_t gather(std::uint64_t value, std::uint64_t mask) {
    std::uint64_t out = 0;
    for (int bit = 63; bit >= 0; --bit) {
      if ((mask >> bit & 1) != 0) out = (out << 1) | (value >> bit & 1);
    }
    return out;
  }
  std::uint64_t offset(std::uint64_t value) const {
    return (gather(value, high_offset.mask) << low_offset.bits) | gather(value, low_offset.mask);
  }
  std::uint64_t length(std::uint64_t value) const {
    return (gather(value, high_length.mask) << low_length.bits) | gather(value, low_length.mask);
  }
  std::uint64_t greatest_offset() const {
    return (std::uint64_t{1} << (low_offset.bits + high_offset.bits)) - 1;
  }
  static std::uint64_t scatter(std::uint64_t value, std::uint64_t mask) {
    std::uint64_t out = 0;
    for (int bit = 0; bit < 64; ++bit) {
      if ((mask >> bit & 1) == 0) continue;
      out |= (value & 1) << bit;
      value >>= 1;
    }
    return out;
  }
  /// The token of an offset and a length as its fields have them.
  std::uint64_t value_of(std::uint64_t offset, std::uint64_t length) const {
    return scatter(offset, low_offset.mask) | scatter(offset >> low_offset.bits, high_offset.mask) |
           scatter(length, low_length.mask) | scatter(length >> low_length.bits, high_length.mask);
  }
  std::uint64_t greatest_length() const {
    return (std::uint64_t{1} << (low_length.bits + high_length.bits)) - 1;
  }
};

}  // namespace operculum

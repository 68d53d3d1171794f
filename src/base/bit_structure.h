#pragma once

#include <algorithm>
#include <bit>
#include <cstdint>
#include <string_view>

#include "base/bytes.h"

namespace operculum {

// A structure on disk that was written as a compiler lays bit fields out is declared once, as a constant
// array `layout` of the struct that holds it in memory. Fields follow each other without gaps: from the
// lowest bit of the first byte on in little-endian order, from the highest in big-endian.
//
//   struct Row {
//     std::uint64_t offset = 0, type = 0;
//     static constexpr BitField<Row> layout[] = {{"offset", &Row::offset, 13}, {"type", &Row::type, 3}};
//   };

/// The name that the specification gives a field, the member that holds it, and its width in bits.
template <typename S>
struct BitField {
  std::string_view name;
  std::uint64_t S::*member;
  unsigned bits;
};

/// What a structure takes on disk, in bytes; its fields fill them up.
template <typename S>
constexpr std::size_t bit_structure_size() {
  unsigned bits = 0;
  for (const BitField<S>& field : S::layout) bits += field.bits;
  return bits / 8;
}

/// A structure out of bytes that are known to be there, bit_structure_size<S>() of them.
template <typename S>
S read_bit_structure(const Byte* bytes, std::endian order) {
  S out{};
  unsigned at = 0;
  for (const BitField<S>& field : S::layout) {
    std::uint64_t value = 0;
    for (unsigned done = 0; done < field.bits;) {
      unsigned within = at % 8, count = std::min(8 - within, field.bits - done);
      unsigned mask = (1U << count) - 1, byte = bytes[at / 8];
      if (order == std::endian::little) {
        value |= std::uint64_t{byte >> within & mask} << done;
      } else {
        value = value << count | (byte >> (8 - within - count) & mask);
      }
      done += count;
      at += count;
    }
    out.*field.member = value;
  }
  return out;
}

}  // namespace operculum

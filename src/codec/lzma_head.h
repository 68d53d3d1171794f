#pragma once

#include <algorithm>
#include <bit>

#include "base/bytes.h"

namespace operculum {

/// Properties of LZMA (its specification, 2015: (pb * 5 + lp) * 9 + lc) that packers are asked for: lc 3, 0
/// and 4 with lp 0; and for code of processors with words of four bytes lc 0 to 2 with lp 2. pb is 2.
constexpr Byte kUsualLzmaProperties[] = {0x5D, 0x5A, 0x5E, 0x6C, 0x6D, 0x6E};

inline bool are_usual_lzma_properties(Byte properties) {
  return std::ranges::find(kUsualLzmaProperties, properties) != std::end(kUsualLzmaProperties);
}

/// Whether a window of LZMA has a size that packers offer: 2^n or 3 * 2^n bytes.
inline bool is_usual_lzma_window(std::uint32_t size) {
  return std::has_single_bit(size) || (size % 3 == 0 && std::has_single_bit(size / 3));
}

}  // namespace operculum

#pragma once

#include <array>
#include <span>
#include <vector>

#include "codec/low_bits.h"

namespace operculum {

/// A canonical prefix code of up to 16 bits whose bits are inverted: the last symbol of the greatest length
/// has only zeros (APPNOTE 5.3.7). It need not be complete; codes that stand for nothing are refused when
/// met.
class InvertedCode {
 public:
  static constexpr unsigned kMaxBits = 16;

  /// `lengths[s]` is the length of symbol s in bits, 1 to 16. False when they claim more codes than there
  /// are.
  [[nodiscard]] bool build(std::span<const Byte> lengths);

  unsigned decode(LowBits& bits) const;

 private:
  std::array<std::uint16_t, kMaxBits + 1> counts_{};
  std::vector<std::uint16_t> symbols_;  // by length
};

}  // namespace operculum

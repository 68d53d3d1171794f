#include "codec/inverted_code.h"

namespace operculum {

bool InvertedCode::build(std::span<const Byte> lengths) {
  counts_ = {};
  symbols_.clear();
  for (unsigned length = 1; length <= kMaxBits; ++length) {
    for (std::size_t symbol = 0; symbol < lengths.size(); ++symbol) {
      if (lengths[symbol] != length) continue;
      symbols_.push_back(static_cast<std::uint16_t>(symbol));
      ++counts_[length];
    }
  }
  std::uint32_t taken = 0;
  for (unsigned length = 1; length <= kMaxBits; ++length)
    taken += std::uint32_t{counts_[length]} << (kMaxBits - length);
  return taken <= 1u << kMaxBits;
}

unsigned InvertedCode::decode(LowBits& bits) const {
  std::uint32_t code = 0, first = 0, index = 0;
  for (unsigned length = 1; length <= kMaxBits; ++length) {
    code |= bits.take(1) ^ 1;
    std::uint32_t count = counts_[length];
    if (code < first + count) return symbols_[index + (code - first)];
    index += count;
    first = (first + count) << 1;
    code <<= 1;
  }
  bits.damaged("an unused code");
}

}  // namespace operculum

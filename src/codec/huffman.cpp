#include "codec/huffman.h"

#include <algorithm>

namespace operculum {

void PrefixCode::build(std::span<const Byte> lengths) {
  std::array<unsigned, kMaxBits + 1> counts{}, starts{};
  for (Byte length : lengths) ++counts[length];
  counts[0] = 0;
  table_bits_ = 1;
  unsigned code = 0;
  for (unsigned length = 1; length <= kMaxBits; ++length) {
    code = (code + counts[length - 1]) << 1;
    if (code + counts[length] > (1u << length))
      throw Malformed("deflate64 data: too many codes; the data is damaged");
    starts[length] = code;
    if (counts[length] > 0) table_bits_ = length;
  }
  table_.assign(std::size_t{1} << table_bits_, {});
  for (std::size_t symbol = 0; symbol < lengths.size(); ++symbol) {
    unsigned length = lengths[symbol];
    if (length == 0) continue;
    unsigned next = starts[length]++, reversed = 0;
    for (unsigned bit = 0; bit < length; ++bit) reversed |= ((next >> bit) & 1) << (length - 1 - bit);
    for (unsigned at = reversed; at < table_.size(); at += 1u << length) {
      table_[at] = {static_cast<std::uint16_t>(symbol), static_cast<std::uint16_t>(length)};
    }
  }
}

}  // namespace operculum

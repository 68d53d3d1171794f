#pragma once

#include <optional>

#include "io/stream.h"

namespace operculum {

/// LZ77 with static Huffman codes a block, as H. Yoshizaki's and H. Okumura's "ar002" of 1990 defines it: a
/// block has a 16-bit count of symbols, the lengths of the code for lengths, those of literals and copy
/// lengths (510 symbols), those of positions; then the symbols, bits from the highest. `window_bits` is 8
/// to 20. The data states no end: `size` bytes are decoded, or all when it is not known. Throws Malformed.
StreamPtr open_lzh(StreamPtr packed, unsigned window_bits, std::optional<std::uint64_t> size);

/// The same packed: in blocks of 48 KiB, with the steps that take the fewest bits.
StreamPtr pack_lzh(StreamPtr plain, unsigned window_bits);

}  // namespace operculum

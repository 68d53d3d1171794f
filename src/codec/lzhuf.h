#pragma once

#include <optional>

#include "io/stream.h"

namespace operculum {

/// Decodes LZHUF, LZ77 with adaptive Huffman codes (H. Yoshizaki, 1988, after H. Okumura's LZARI): a ring of
/// 4096 bytes, copies of 3 to 60, the upper six bits of a place in a fixed code. `size` is the unpacked size
/// in bytes; without it the data ends with its bits. Throws Malformed.
StreamPtr open_lzhuf(StreamPtr packed, std::optional<std::uint64_t> size);

}  // namespace operculum

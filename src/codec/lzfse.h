#pragma once

#include "base/bytes.h"

namespace operculum {

/// Decodes LZFSE, a sequence of blocks that end with a mark, into the front of `out`; returns how many bytes
/// came out. Throws Malformed when it is damaged or gives more than there is room for.
std::size_t decode_lzfse(ByteView packed, ByteSpan out);

}  // namespace operculum

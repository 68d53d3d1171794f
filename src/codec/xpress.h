#pragma once

#include "base/bytes.h"

namespace operculum {

/// Decodes XPRESS in its form with Huffman codes ([MS-XCA] 2.2) until `out` is full. Throws Malformed.
void decode_xpress(ByteView packed, ByteSpan out);

}  // namespace operculum

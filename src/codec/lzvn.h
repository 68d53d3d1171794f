#pragma once

#include "base/bytes.h"

namespace operculum {

/// Decodes LZVN, a byte-oriented LZ, into `out` behind the `done` bytes that it holds already, which copies
/// may reach; returns how many it holds then. Stops at its end mark, at the end of `packed`, or when `out` is
/// full. Throws Malformed.
std::size_t decode_lzvn(ByteView packed, ByteSpan out, std::size_t done = 0);

}  // namespace operculum

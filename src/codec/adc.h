#pragma once

#include "base/bytes.h"

namespace operculum {

/// Decodes Apple Data Compression, a byte-oriented LZ with three kinds of items; returns how many bytes came
/// out. Throws Malformed.
std::size_t decode_adc(ByteView packed, ByteSpan out);

}  // namespace operculum

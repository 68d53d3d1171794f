#pragma once

#include <string>

#include "base/bytes.h"

namespace operculum {

/// Bytes as lines of sixteen: offset, hexadecimal in two groups of eight, characters. `offset` is that of the
/// first.
std::string hex_lines(ByteView bytes, std::uint64_t offset);

}  // namespace operculum

#pragma once

#include <string>

#include "base/bytes.h"
#include "base/shown.h"

namespace operculum {

/// Bytes as lines of sixteen: offset, hexadecimal in two groups of eight, characters. `offset` is that of the
/// first.
Shown hex_lines(ByteView bytes, std::uint64_t offset);

/// Bytes as characters: printable ASCII as it is, all else as dots.
std::string hex_letters(ByteView bytes);

}  // namespace operculum

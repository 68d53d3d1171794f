#pragma once

#include "io/source.h"

namespace operculum::fuzz {

/// An image whose structures lie megabytes apart, from a small input: how many pages there are (a byte), the
/// number of each (32 bits, little-endian) and the pages, 4096 bytes each; between them are holes.
SourcePtr pages_of(ByteView input);

}  // namespace operculum::fuzz

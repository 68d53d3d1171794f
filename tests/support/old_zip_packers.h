#pragma once

#include "base/bytes.h"

namespace operculum::test {

// Packers for the methods of ZIP that nobody writes any more, written from APPNOTE 5.1 to 5.3.

/// With `clears` the table is cleared partly each time that it is full.
Bytes pack_shrink(ByteView plain, bool clears);
Bytes pack_reduce(ByteView plain, unsigned factor);
/// `flags` as in a ZIP header: 2 for the window of 8 KiB, 4 for three trees.
Bytes pack_implode(ByteView plain, unsigned flags);
/// `window_bits` is 4 to 6.
Bytes pack_dcl_implode(ByteView plain, bool coded_literals, unsigned window_bits);

}  // namespace operculum::test

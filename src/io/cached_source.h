#pragma once

#include "io/source.h"

namespace operculum {

/// `inner` read in aligned chunks that are kept for a while: for structures that are read in small pieces
/// from many places, such as the tables of a file system. What lies in memory already is passed on as it is.
SourcePtr make_cached(SourcePtr inner, std::uint64_t chunk = 16 << 10, std::uint64_t limit = 8 << 20);

}  // namespace operculum

#pragma once

#include "io/source.h"

namespace operculum {

/// Bytes that are not there: `size` of them, and every read throws Malformed with that sentence.
SourcePtr make_missing(std::uint64_t size, std::string sentence);

}  // namespace operculum

#pragma once

#include "io/assembly.h"

namespace operculum {

/// `base` with other bytes where those of an entry lie: for containers that are not written otherwise, when
/// an entry's content changes and its size does not. `before` is the entry's content, whose bytes lie in
/// `base` as they are; what is equal in `after` is not touched. Throws Unsupported where a byte that changes
/// does not lie there: packed, in a hole, or in a checksummed block that is decoded.
Assembly patched(const SourcePtr& base, const Source& before, const SourcePtr& after);

}  // namespace operculum

#pragma once

#include "base/bytes.h"

namespace operculum {

/// Undoes, in place, the filter that writes the targets of x86 calls and jumps as absolute addresses so that
/// code packs better; `bytes` is the whole of what was filtered, from its first byte. (.xz format 1.1.0,
/// section 5.3.2.)
void restore_x86_branches(ByteSpan bytes);

}  // namespace operculum

#pragma once

#include "io/assembly.h"

namespace operculum::vhd {

struct DynamicHeader;

/// A dynamic or differencing image with another content of its disk, which keeps its size: blocks that the
/// image has are written where they lie; those that it has not come in front of the footer, which moves
/// behind them. `before` is the disk as it is, `end` where the footer lies. Throws Malformed.
Assembly rewrite(const SourcePtr& file, std::uint64_t end, const DynamicHeader& header, const Source& before,
                 const SourcePtr& after);

}  // namespace operculum::vhd

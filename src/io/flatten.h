#pragma once

#include "io/source.h"

namespace operculum {

/// The same bytes, read straight from where they lie: of what was joined and cut over and over, one list of
/// runs. Short runs that lie in memory become one.
SourcePtr flattened(const SourcePtr& source);

}  // namespace operculum

#pragma once

#include <string_view>

#include "measure.h"

namespace operculum::bench {

/// Packed tar archives and packages against the system's own tools. `only` names one of them: xz, xz-one,
/// bzip2, deb; empty: all.
void measure_solid(Measure& measure, std::string_view only);

}  // namespace operculum::bench

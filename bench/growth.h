#pragma once

#include "measure.h"

namespace operculum::bench {

/// What many small things cost, and how the cost grows with them.
void measure_growth(Measure& measure, std::string_view only);

}  // namespace operculum::bench

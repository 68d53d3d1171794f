#pragma once

#include "measure.h"

namespace operculum::bench {

/// What a small entry costs when there are very many, what is kept of each, and what a start costs.
void measure_small_things(Measure& measure, std::string_view only);

}  // namespace operculum::bench

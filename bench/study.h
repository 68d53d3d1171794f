#pragma once

#include <string_view>

#include "measure.h"

namespace operculum::bench {

/// Working out packs that nobody described.
void measure_study(Measure& measure, std::string_view only);

}  // namespace operculum::bench

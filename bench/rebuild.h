#pragma once

#include <string_view>

#include "measure.h"

namespace operculum::bench {

/// Containers that are written against copying, packing and decoding alone. `only` names one of them:
/// rebuild, rebuild-whole, pack, convert; empty: all.
void measure_rebuild(Measure& measure, std::string_view only);

}  // namespace operculum::bench

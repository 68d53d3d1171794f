#pragma once

#include <string_view>

#include "measure.h"

namespace operculum::bench {

/// Questions across many containers. `only` names one of them: compare, find-like, find-text, catalogue,
/// catalogue-again; empty: all.
void measure_collections(Measure& measure, std::string_view only);

}  // namespace operculum::bench

#pragma once

#include <string_view>

#include "measure.h"

namespace operculum::bench {

/// Installer packages and their codecs against libdeflate on the same bytes. `only` names one of them: mszip,
/// lzx, lanes, msi; empty: all.
void measure_packages(Measure& measure, std::string_view only);

}  // namespace operculum::bench

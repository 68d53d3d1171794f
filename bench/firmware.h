#pragma once

#include <string_view>

#include "measure.h"

namespace operculum::bench {

/// Firmware: searching a dump, listing a log-structured flash and a packed volume.
void measure_firmware(Measure& measure, std::string_view only);

}  // namespace operculum::bench

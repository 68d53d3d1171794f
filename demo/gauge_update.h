#pragma once

#include <string>

#include "base/bytes.h"

namespace operculum::demo {

/// The update of a tide gauge: a header of the gauges' own, an image tree with kernel, device tree, root file
/// system and encrypted calibration, and the flash of settings. `minor` is 3 or 4.
Bytes gauge_update(unsigned minor);

/// The flash chip of such a gauge as it was read out: loader, update, settings, and room.
Bytes gauge_flash();

/// The key of the calibration, 16 bytes as hexadecimal digits, for keys.toml.
std::string gauge_update_key();

}  // namespace operculum::demo

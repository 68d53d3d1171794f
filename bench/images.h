#pragma once

#include <string_view>

#include "measure.h"

namespace operculum::bench {

/// Disk images against the kernel's own mounts of them; those need root, and are skipped without. `only`
/// names one of them: ext, squashfs, folders, one, nested; empty: all.
void measure_images(Measure& measure, std::string_view only);

}  // namespace operculum::bench

#pragma once

#include <string>

#include "base/shown.h"
#include "task/region_map.h"

namespace operculum {

/// The map as lines: offsets, size, what lies there; nested regions stand in by two blanks. At most `most`
/// lines, and what is left out is said.
Shown map_text(const RegionMap& map, std::size_t most = 60);

/// A page with the map drawn to scale, self-contained; `name` is the file's.
std::string map_page(const RegionMap& map, const std::string& name);

}  // namespace operculum

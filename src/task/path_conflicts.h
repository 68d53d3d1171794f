#pragma once

#include <span>
#include <vector>

#include "container/container.h"

namespace operculum {

/// Paths that stand for more than one thing, as warnings: given to several entries, or to a file and to a
/// folder. Says how `show` reaches each.
std::vector<Finding> path_conflicts(std::span<const Entry> entries);

}  // namespace operculum

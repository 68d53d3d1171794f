#pragma once

#include <string>
#include <vector>

namespace operculum {

/// Targets with each folder on disk replaced by the files in it, in the order of their names.
std::vector<std::string> expanded(const std::vector<std::string>& targets);

}  // namespace operculum

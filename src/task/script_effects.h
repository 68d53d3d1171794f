#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace operculum {

/// What the text of an installer's shell script says that it makes beside the package's files: folders,
/// users, links, alternatives, enabled services. One sentence each, in order; nothing is run, and what a
/// script works out while it runs cannot be told.
std::vector<std::string> script_effects(std::string_view text);

}  // namespace operculum

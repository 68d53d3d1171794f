#pragma once

#include <string>
#include <string_view>

namespace operculum {

/// As escape() gives it, for a message: of what is longer than a line the begin, and "...". For names that a
/// container states and nothing else shows, such as that of a parent image.
std::string escape_briefly(std::string_view text);

}  // namespace operculum

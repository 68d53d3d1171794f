#pragma once

#include <string>
#include <utility>
#include <vector>

namespace operculum {

/// What is known of something, by name, in the order in which it is told. A name may stand there twice.
/// Values may be words of a container as they are: untrusted.
using Facts = std::vector<std::pair<std::string, std::string>>;

/// Extended attributes of a file, by their full names ("user.origin"); values are any bytes.
using ExtendedAttributes = std::vector<std::pair<std::string, std::string>>;

}  // namespace operculum

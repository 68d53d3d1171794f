#pragma once

#include <map>
#include <string>

#include "base/bytes.h"

namespace operculum {

/// The summary information of a compound file ([MS-OLEPS] 2, 3): numbered properties as text; times as
/// to_text() has them, numbers in decimal. Throws Malformed when even the first section cannot be read.
std::map<unsigned, std::string> read_property_set(ByteView raw);

}  // namespace operculum

#pragma once

#include <map>
#include <string>

#include "base/bytes.h"

namespace operculum::fuzz {

/// Small discs, disks, file systems, packages and firmware by name, for the fuzz targets to begin with and
/// for tests that damage them.
std::map<std::string, Bytes> seeds();

}  // namespace operculum::fuzz

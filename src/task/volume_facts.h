#pragma once

#include <string>
#include <utility>
#include <vector>

#include "io/source.h"

namespace operculum {

/// What the operating system's own probing (libblkid) finds in some bytes: file systems, members of RAID
/// sets, volumes and partition tables that this program does not open. Pairs of a name (type, version, label,
/// uuid, use, partition table) and its value; several types where the bytes are ambiguous. Empty when it
/// finds nothing.
std::vector<std::pair<std::string, std::string>> volume_facts(const Source& source);

}  // namespace operculum

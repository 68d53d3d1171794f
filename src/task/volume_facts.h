#pragma once

#include <string>
#include <utility>
#include <vector>

#include "base/facts.h"
#include "io/source.h"

namespace operculum {

/// What the operating system's own probing (libblkid) finds in some bytes: file systems, members of RAID
/// sets, volumes and partition tables that this program does not open. Pairs of a name (type, version, label,
/// uuid, use, partition table) and its value; several types where the bytes are ambiguous. Empty when it
/// finds nothing. `file` is the path of the file that the source is all of, or empty: then what lies more
/// than 4 MiB from both ends is not seen.
Facts volume_facts(const Source& source, const std::string& file);

}  // namespace operculum

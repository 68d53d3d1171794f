#pragma once

#include <string>
#include <vector>

#include "base/bytes.h"

namespace operculum::udif {

/// The chunk table of a part of the disk.
struct Table {
  std::string name;
  Bytes bytes;
};

/// The tables in a property list, under "resource-fork", "blkx". Throws Malformed.
std::vector<Table> tables_in_list(ByteView list);

/// The tables in a resource fork ("Inside Macintosh: More Macintosh Toolbox", chapter 1), as older images
/// have them. Throws Malformed.
std::vector<Table> tables_in_fork(ByteView fork);

}  // namespace operculum::udif

#pragma once

#include <cstdint>
#include <string>

#include "container/entry.h"

namespace operculum {

/// How many entries of which kind there are: the same words wherever entries are counted.
struct Counts {
  std::uint64_t files = 0, folders = 0;
  std::uint64_t links = 0;    ///< symbolic and hard
  std::uint64_t devices = 0;  ///< and fifos and sockets
  std::uint64_t bytes = 0;    ///< of files whose size is known, unpacked

  void add(const Entry& entry);
};

/// "8 files, 3 folders, 1 link"; what there is none of is left out, files are always named.
std::string counts_text(const Counts& counts);

}  // namespace operculum

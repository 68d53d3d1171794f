#pragma once

#include "container/locator.h"

namespace operculum {

/// A range of a file and what lies there.
struct Region {
  std::uint64_t at = 0, size = 0;  ///< in the file, in bytes
  std::string path;                ///< of the entry that lies there; empty for what no entry covers
  std::string what;                ///< "kernel: gzip file", "filled with 0xff", "packed or encrypted"
  std::string note;                ///< what headers say: addresses, versions
  bool gap = false;                ///< no entry covers it
  std::vector<Region> inner;
};

/// What lies where in a file, and what its bytes tell of versions.
struct RegionMap {
  std::uint64_t size = 0;  ///< of the file, in bytes
  std::vector<Region> regions;
  std::vector<std::string> versions;  ///< sentences in the bytes that tell a version or a date
  bool cut = false;                   ///< there are more regions than were looked at
};

/// Whether what a container of this format holds are ranges of the file that a map is worth drawing of.
bool can_be_mapped(const Format& format);

/// The ranges of a container's entries, of what lies in them, and of what no entry covers. Bytes that come
/// out of packed parts are not on the map. `file` holds the container's bytes.
RegionMap map_regions(Container& container, const SourcePtr& file, OpenContext& context);

}  // namespace operculum

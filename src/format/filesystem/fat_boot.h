#pragma once

#include <string>

#include "format/filesystem/fat_records.h"
#include "format/filesystem/fat_table.h"

namespace operculum::fat {

/// What a boot sector says; places and sizes are bytes.
struct Boot {
  Geometry geometry;
  std::uint64_t sector = 0, size = 0;
  std::uint64_t root_at = 0, root_size = 0;  ///< of a root folder outside the clusters
  std::uint32_t root_cluster = 0, serial = 0;
  std::uint64_t info_at = 0;  ///< of the information sector; 0: none
  unsigned tables = 0;
  unsigned table_in_use = 0;  ///< the one that counts
  bool mirrored = true;       ///< all tables are the same
  std::uint8_t media = 0;
  std::string label;
};

/// Throws Malformed unless the numbers are those of a FAT volume.
Boot read_boot(ByteView raw);

}  // namespace operculum::fat

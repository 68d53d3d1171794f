#pragma once

#include "container/container.h"

namespace operculum {

/// A part of some bytes under a name.
struct NamedRange {
  std::string path;
  std::uint64_t at = 0, size = 0;  ///< bytes
  std::string_view sum = {};       ///< a name that find_sum() knows, when a checksum of it is stored
  Bytes digest = {};               ///< the checksum
};

/// A container whose entries are ranges of `bytes`, each as it lies there.
ContainerPtr make_ranges(SourcePtr bytes, std::vector<NamedRange> ranges);

}  // namespace operculum

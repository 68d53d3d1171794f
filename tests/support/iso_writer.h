#pragma once

#include "support/sample_tree.h"

namespace operculum::test {

struct IsoOptions {
  bool rock_ridge = true, joliet = true;
  Bytes boot = {};             ///< an image for x86 machines, outside the folders
  std::string packed = {};     ///< path of a file to be kept by zisofs
  std::string in_parts = {};   ///< path of a file to be written as several extents
  std::string sparse = {};     ///< path of a file to be kept with holes (Rock Ridge)
  std::string relocated = {};  ///< path of a folder to be moved to the root and linked from its place
};

/// An ISO 9660 image. Long Rock Ridge fields lie in continuation areas. Without Rock Ridge names are
/// shortened to eight and three characters with a number.
Bytes make_iso(const SampleTree& tree, const IsoOptions& options = {});

}  // namespace operculum::test

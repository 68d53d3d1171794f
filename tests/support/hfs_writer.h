#pragma once

#include "support/sample_tree.h"

namespace operculum::test {

struct HfsOptions {
  bool extended = false;       ///< HFSX
  std::string resource = {};   ///< path of a file that also has a resource fork, "fork of NAME"
  std::string hard_link = {};  ///< path that shall be a second name of `link_of`
  std::string link_of = {};
  std::string packed_kept = {},
              packed_fork = {};  ///< paths of files packed with zlib, in an attribute or the resource fork
  std::string scattered = {};    ///< path of a file with more extents than fit into its record
  std::string attributed = {};   ///< path of a file with the attribute "user.exhibit" = "seven"
};

/// An HFS+ image with blocks of 4096 bytes whose catalog has several leaves.
Bytes make_hfs(const SampleTree& tree, const HfsOptions& options = {});

}  // namespace operculum::test

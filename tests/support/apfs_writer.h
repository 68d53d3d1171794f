#pragma once

#include "support/sample_tree.h"

namespace operculum::test {

struct ApfsVolume {
  std::string name = "gauge";
  SampleTree tree = {};
  std::uint16_t role = 0;
  bool ignores_case = false;
  bool sealed = false;  ///< nodes without heads, counted from the root on; extents in a tree of their own
  std::string passphrase = {};   ///< empty: not encrypted
  bool lost_key = false;         ///< its key is wrapped with another one than what the passphrase unwraps
  std::string resource = {};     ///< path of a file that also has a resource fork, "fork of NAME"
  std::string packed_kept = {};  ///< paths of files packed with zlib, in an attribute or the resource fork
  std::string packed_fork = {};
  std::string attributed = {};  ///< path of a file with the attribute "exhibit" = "seven"
};

/// An APFS container with blocks of 4096 bytes: an old superblock in block 0, the newest in the checkpoint
/// area, and one that was not finished. Files of several blocks have two extents.
Bytes make_apfs(const std::vector<ApfsVolume>& volumes);

}  // namespace operculum::test

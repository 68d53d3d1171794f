#pragma once

#include "codec/block.h"
#include "support/sample_tree.h"

namespace operculum::test {

struct SquashOptions {
  BlockCodec codec = BlockCodec::zlib;
  std::uint32_t block = 131072;
  bool fragments = true;
  bool extended = false;  ///< the longer kinds of inodes, with an attribute for each file
};

/// A SquashFS 4.0 image of the tree.
Bytes make_squashfs(const SampleTree& tree, const SquashOptions& options = {});

}  // namespace operculum::test

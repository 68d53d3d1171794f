#pragma once

#include "support/sample_tree.h"

namespace operculum::test {

struct OldSquashOptions {
  enum class Packing {
    zlib,
    lzma,             ///< with the header of an .lzma file
    lzma_properties,  ///< with the five bytes of it that are no size
    lzma_bare,
  };
  unsigned major = 3;
  bool big = false;
  Packing packing = Packing::zlib;
  std::uint32_t block = 65536;
  bool fragments = true;
  bool marked = false;   ///< a byte in front of each metadata block
  bool indexed = false;  ///< the longer kinds of inodes
};

/// A SquashFS 2.1 or 3.1 image of the tree.
Bytes make_old_squashfs(const SampleTree& tree, const OldSquashOptions& options = {});

}  // namespace operculum::test

#pragma once

#include "support/sample_tree.h"

namespace operculum::test {

/// An ext4 image with extents in one block group, blocks of 4096 bytes; `size` in bytes, at most 128 MiB.
Bytes make_ext(const SampleTree& tree, std::size_t size, const std::string& label = "exhibit");

}  // namespace operculum::test

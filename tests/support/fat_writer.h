#pragma once

#include "support/sample_tree.h"

namespace operculum::test {

/// A FAT image of the tree with long names; `bits` is 12, 16 or 32, clusters are as small as that allows.
/// Files' clusters are spread so that no chain is contiguous.
Bytes make_fat(const SampleTree& tree, unsigned bits, const std::string& label = "GAUGE");

/// An exFAT image of the tree; every second file has its clusters in one run without a chain.
Bytes make_exfat(const SampleTree& tree, const std::string& label = "gauge");

}  // namespace operculum::test

#pragma once

#include <string>

#include "base/bytes.h"

namespace operculum::test {

/// Data and its dm-verity hash tree, by the kernel's documentation; blocks of 512 bytes, so that a few
/// hundred give three levels.
struct HashTree {
  Bytes data, tree;
  std::string root;  ///< hexadecimal
};
HashTree make_hash_tree(unsigned type, std::size_t blocks);

}  // namespace operculum::test

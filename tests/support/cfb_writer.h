#pragma once

#include <string>
#include <vector>

#include "base/bytes.h"

namespace operculum::test {

/// A stream or storage to be; parents come before what is in them. Names are UTF-16.
struct CfbNode {
  std::u16string name;
  std::size_t parent = SIZE_MAX;  ///< position of its storage; SIZE_MAX: the root
  bool storage = false;
  Bytes data = {};
};

/// A compound file of version 3 (sectors of 512 bytes) or 4 (4096). `class_id` is the root's, 16 bytes.
Bytes make_cfb(const std::vector<CfbNode>& nodes, unsigned version = 3, Bytes class_id = Bytes(16));

/// Looks whether the names of each storage of a compound file are a search tree in the order of
/// [MS-CFB] 2.6.4, and a red-black one: no red entry below a red one, the same number of black ones on each
/// way down. Says what is wrong; names of ASCII letters alone.
std::string check_search_trees(const Bytes& file);

}  // namespace operculum::test

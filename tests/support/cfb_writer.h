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

}  // namespace operculum::test

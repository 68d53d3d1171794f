#pragma once

#include <string>
#include <vector>

#include "base/shown.h"

namespace operculum {

/// One line of a tree: a path, and what stands behind its name.
struct TreeLine {
  std::string path;  ///< parts separated by '/'
  bool folder = false;
  std::string note;
};

/// Paths as an indented tree, folders in the order in which they were first met; missing folders are filled
/// in.
Shown tree_text(const std::vector<TreeLine>& items);

}  // namespace operculum

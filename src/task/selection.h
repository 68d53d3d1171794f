#pragma once

#include <string>
#include <unordered_set>
#include <vector>

#include "base/glob.h"

namespace operculum {

/// Which entries of a container are meant: those beneath `inside`, that fit a --match pattern or stand in the
/// list (all, when there are neither), and fit no --except pattern.
class Selection {
 public:
  std::string inside;  ///< a folder's or entry's path; empty for all
  std::vector<Glob> match, except;
  std::unordered_set<std::string> listed;
  bool use_list = false;

  bool wants(const std::string& path) const;

  /// True when every entry is meant.
  bool everything() const { return inside.empty() && match.empty() && except.empty() && !use_list; }

 private:
  bool is_listed(const std::string& path) const;
};

}  // namespace operculum

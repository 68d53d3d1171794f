#pragma once

#include <memory>
#include <string>
#include <string_view>
#include <unordered_set>
#include <vector>

#include "base/glob_set.h"

namespace operculum {

/// Whether a path is that of a folder or lies in it; everything lies in "".
bool lies_in(std::string_view path, std::string_view folder);

/// Which patterns and which lines of a list fitted something; shared by all targets of a command.
struct Fitted {
  std::vector<bool> patterns;  ///< as Selection::match
  std::unordered_set<std::string> lines;
};

/// Which entries of a container are meant: those beneath `inside`, that fit a --match pattern or stand in the
/// list (all, when there are neither), and fit no --except pattern. A line of the list means that path alone:
/// what lies in a folder has lines of its own.
class Selection {
 public:
  using Paths = std::unordered_set<std::string>;

  std::string inside;  ///< a folder's or entry's path; empty for all
  GlobSet match, except;
  std::shared_ptr<const Paths> listed;  ///< null: there is no list
  std::shared_ptr<Fitted> fitted = std::make_shared<Fitted>();

  /// Also notes in `fitted` what fitted. From one thread at a time.
  bool wants(const std::string& path) const;

  /// True when every entry is meant.
  bool everything() const { return inside.empty() && match.empty() && except.empty() && !listed; }

  /// True when it is a search: what fits nothing is passed over.
  bool searches() const { return !match.empty() || listed; }

  /// Patterns and lines that fitted nothing so far, in their order.
  std::vector<std::string> unfitted() const;
};

}  // namespace operculum

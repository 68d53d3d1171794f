#pragma once

#include "cli/session.h"
#include "task/selection.h"

namespace operculum::cli {

/// --match, --except, --list-from, --ignore-case: which entries are meant.
class SelectionOptions {
 public:
  enum class With { patterns, patterns_and_list };
  void add_to(Options& command, With with);

  /// Throws IoError when the list cannot be read, Malformed when a line is not as --paths prints it.
  Selection selection(const std::string& inside) const;

 private:
  std::vector<std::string> match_, except_;
  std::string list_from_;
  bool ignore_case_ = false;
};

}  // namespace operculum::cli

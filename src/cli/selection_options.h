#pragma once

#include "cli/session.h"
#include "task/selection.h"

namespace operculum::cli {

/// --match, --except, --list-from, --ignore-case: which entries are meant.
class SelectionOptions {
 public:
  enum class With { patterns, patterns_and_list };
  void add_to(Options& command, With with,
              const std::string& what_ignores_case = "Patterns fit whatever the case of letters");

  /// Throws IoError when the list cannot be read, Malformed when a line is not as --paths prints it.
  Selection selection(const std::string& inside);

  Glob::Case letters() const { return ignore_case_ ? Glob::Case::ignored : Glob::Case::exact; }
  bool searches() const { return !match_.empty() || !list_from_.empty(); }

  /// When all targets were gone through: tells which patterns and lines fitted nothing, and raises the exit
  /// code.
  void tell_unfitted(Session& session) const;

 private:
  void read_list(Selection& selection) const;

  std::optional<Selection> made_;  // shared by all targets
  std::vector<std::string> match_, except_;
  std::string list_from_;
  bool ignore_case_ = false;
};

}  // namespace operculum::cli

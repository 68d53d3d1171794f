#pragma once

#include <string>
#include <string_view>

namespace operculum {

/// A path pattern: `*` and `?` stay within one folder, `**` crosses folders, `[a-z]` and `[!a-z]` are sets,
/// `\` takes the next character as it is. A pattern without a slash is compared with the last part of the
/// path; one with a slash with the whole path. A pattern that fits a folder fits everything beneath it.
class Glob {
 public:
  enum class Case { exact, ignored };
  explicit Glob(std::string pattern, Case letters = Case::exact);
  bool matches(std::string_view path) const;
  const std::string& pattern() const { return pattern_; }

 private:
  bool matches_here(std::string_view path) const;

  std::string pattern_;
  bool whole_path_;
  Case letters_;
};

}  // namespace operculum

#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace operculum {

/// A path pattern: `*` and `?` stay within one folder, `**` crosses folders, `[a-z]` and `[!a-z]` are sets,
/// `\` takes the next character as it is. A pattern without a slash is compared with the last part of the
/// path; one with a slash with the whole path. A pattern that fits a folder fits everything beneath it.
/// A comparison takes one step for each character of the path, whatever the pattern.
class Glob {
 public:
  enum class Case { exact, ignored };
  explicit Glob(std::string pattern, Case letters = Case::exact);
  bool matches(std::string_view path) const;
  const std::string& pattern() const { return pattern_; }

 private:
  /// A set of places in the pattern that the text read so far may have reached, a bit each.
  using Places = std::vector<std::uint64_t>;

  friend class GlobSet;

  void compile();
  void follow_free_steps(std::uint64_t* places) const;
  void take(std::uint64_t* places, char c) const;
  void step(std::uint64_t* places, char c) const;   ///< take(), or where parts stand alone, begin the next
  bool ends_at(const std::uint64_t* places) const;  ///< whether the pattern's end is among them
  bool matches_here(std::string_view path) const;

  std::string pattern_;
  bool whole_path_;
  Case letters_;
  std::size_t words_ = 1;  // of a Places
  std::size_t end_ = 0;    // the place behind the pattern
  Places start_;           // with its free steps
  Places skips_one_,
      skips_two_;      // places from which the next, or the one behind it, is reached without a character
  Places on_, stays_;  // for each of 256 characters: places that it leads on from, and that it stays at
};

}  // namespace operculum

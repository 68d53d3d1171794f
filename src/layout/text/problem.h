#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace operculum::layout {

/// A run of characters in a description, as byte offsets.
struct Span {
  std::size_t at = 0, length = 0;
};

/// Something wrong, or odd, in a description.
struct Problem {
  enum class Level { error, warning };
  Level level = Level::error;
  Span where;
  std::string text;  ///< one sentence, lower-case start
  std::string hint;  ///< what to try; may be empty
};

/// Thrown within the compiler to give up one statement; the compiler collects the problem and goes on.
struct ProblemFound {
  Problem problem;
};

/// The text of a description, with its name for messages.
struct Description {
  std::string name;
  std::string text;

  struct Place {
    std::size_t line, column;  ///< from 1; columns count characters
    std::string_view content;  ///< of the line
  };
  Place place_of(std::size_t at) const;

  /// "reef.layout:12:9: error: ...", the line itself, a caret beneath, and the hint.
  std::string show(const Problem& problem) const;

  /// "reef.layout line 12", for messages about a container.
  std::string line_of(std::size_t at) const;
};

}  // namespace operculum::layout

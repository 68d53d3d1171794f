#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace operculum {

/// One line of a unified diff: ' ' in both, '-' only before, '+' only after.
struct DiffLine {
  char mark;
  std::string text;
};

/// A run of differing lines with the lines around it. Lines are counted from 1.
struct DiffHunk {
  std::size_t before_at = 0, before_count = 0;
  std::size_t after_at = 0, after_count = 0;
  std::vector<DiffLine> lines;
};

/// How one text became another.
struct TextDiff {
  std::size_t added = 0, removed = 0;  ///< lines
  bool only_line_ends = false;  ///< the lines are the same; their ends, or how they are encoded, differ
  std::vector<DiffHunk> hunks;
};

/// Texts of more lines than this have no diff made of them.
constexpr std::size_t kMostDiffLines = 50'000;

/// The differences between two texts, `context` equal lines around each; nothing when a text has too many
/// lines.
std::optional<TextDiff> diff_texts(std::string_view before, std::string_view after, std::size_t context = 3);

/// As `diff -u` prints it, without the two lines of names: hunk headers and marked lines.
std::string unified(const TextDiff& diff);

}  // namespace operculum

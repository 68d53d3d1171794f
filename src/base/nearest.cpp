#include "base/nearest.h"

#include <algorithm>
#include <vector>

namespace operculum {
namespace {

constexpr std::size_t kLongestWord = 64;  // letters; nobody means an option with longer ones

/// Damerau's distance, optimal string alignment.
std::size_t distance(std::string_view a, std::string_view b) {
  std::vector<std::size_t> before(b.size() + 1), last(b.size() + 1), row(b.size() + 1);
  for (std::size_t j = 0; j <= b.size(); ++j) last[j] = j;
  for (std::size_t i = 1; i <= a.size(); ++i) {
    row[0] = i;
    for (std::size_t j = 1; j <= b.size(); ++j) {
      row[j] = std::min({last[j] + 1, row[j - 1] + 1, last[j - 1] + (a[i - 1] == b[j - 1] ? 0 : 1)});
      bool swapped = i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1];
      if (swapped) row[j] = std::min(row[j], before[j - 2] + 1);
    }
    std::swap(before, last);
    std::swap(last, row);
  }
  return last[b.size()];
}

}  // namespace

std::string_view nearest(std::string_view word, std::span<const std::string_view> words) {
  constexpr std::size_t kLeastPrefix = 3;
  if (word.size() > kLongestWord) return "";
  std::string_view best;
  std::size_t least = word.size() < 4 ? 2 : 3;  // that many are too many
  for (std::string_view candidate : words) {
    std::size_t off = distance(word, candidate);
    if (word.size() >= kLeastPrefix && candidate.starts_with(word)) off = std::min<std::size_t>(off, 1);
    if (off < least) {
      best = candidate;
      least = off;
    }
  }
  return best;
}

}  // namespace operculum

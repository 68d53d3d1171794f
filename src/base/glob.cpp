#include "base/glob.h"

#include "base/text.h"

namespace operculum {
namespace {

/// One bracket set at pattern[at] == '['; moves `at` behind it. A set without its end is a plain '['.
bool set_matches(std::string_view pattern, std::size_t& at, char c) {
  std::size_t i = at + 1;
  bool negated = i < pattern.size() && (pattern[i] == '!' || pattern[i] == '^');
  if (negated) ++i;
  bool found = false;
  std::size_t first = i;
  for (; i < pattern.size() && (pattern[i] != ']' || i == first); ++i) {
    if (i + 2 < pattern.size() && pattern[i + 1] == '-' && pattern[i + 2] != ']') {
      found |= pattern[i] <= c && c <= pattern[i + 2];
      i += 2;
    } else {
      found |= pattern[i] == c;
    }
  }
  if (i == pattern.size()) return pattern[at++] == c;
  at = i + 1;
  return found != negated;
}

/// Where to take up again when the pattern behind a star does not fit: one more character belongs to the
/// star.
struct Star {
  std::size_t pattern = std::string_view::npos;
  std::size_t text = 0;
};

/// Matching with two kinds of star: when the text does not fit, the innermost star takes one character more.
bool fits(std::string_view pattern, std::string_view text) {
  std::size_t p = 0, t = 0;
  Star within, across;
  for (;;) {
    if (p < pattern.size() && pattern.substr(p).starts_with("**")) {
      p += 2;
      if (p < pattern.size() && pattern[p] == '/' && (p == 2 || pattern[p - 3] == '/')) {
        if (fits(pattern.substr(p + 1), text.substr(t)))
          return true;  // "**/" also stands for no folder at all
      }
      across = {p, t};
      within = {};
      continue;
    }
    if (p < pattern.size() && pattern[p] == '*') {
      within = {++p, t};
      continue;
    }
    if (t == text.size()) {
      if (p == pattern.size()) return true;
    } else if (p < pattern.size()) {
      char c = text[t];
      std::size_t next = p;
      bool same = false;
      if (pattern[p] == '?') {
        same = c != '/';
        ++next;
      } else if (pattern[p] == '[') {
        same = set_matches(pattern, next, c) && c != '/';
      } else {
        if (pattern[next] == '\\' && next + 1 < pattern.size()) ++next;
        same = pattern[next++] == c;
      }
      if (same) {
        p = next;
        ++t;
        continue;
      }
    }
    if (within.pattern != std::string_view::npos && within.text < text.size() && text[within.text] != '/') {
      p = within.pattern;
      t = ++within.text;
    } else if (across.pattern != std::string_view::npos && across.text < text.size()) {
      p = across.pattern;
      t = ++across.text;
      within = {};
    } else {
      return false;
    }
  }
}

}  // namespace

Glob::Glob(std::string pattern, Case letters) : pattern_(std::move(pattern)), letters_(letters) {
  while (pattern_.starts_with("./")) pattern_.erase(0, 2);
  while (pattern_.size() > 1 && pattern_.ends_with('/')) pattern_.pop_back();
  if (letters_ == Case::ignored) pattern_ = to_lower(pattern_);
  whole_path_ = pattern_.find('/') != std::string::npos || pattern_.find("**") != std::string::npos;
  if (pattern_.starts_with('/')) pattern_.erase(0, 1);
}

bool Glob::matches(std::string_view path) const {
  if (letters_ == Case::exact) return matches_here(path);
  std::string lower = to_lower(path);
  return matches_here(lower);
}

bool Glob::matches_here(std::string_view path) const {
  while (path.ends_with('/')) path.remove_suffix(1);
  for (;;) {  // the path itself, then each folder above it
    std::size_t slash = path.rfind('/');
    bool has_folder = slash != std::string_view::npos;
    if (fits(pattern_, whole_path_ || !has_folder ? path : path.substr(slash + 1))) return true;
    if (!has_folder) return false;
    path = path.substr(0, slash);
  }
}

}  // namespace operculum

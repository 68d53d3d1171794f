#include "base/glob.h"

#include <algorithm>

#include "base/text.h"

namespace operculum {
namespace {

constexpr std::size_t kLetters = 256, kBits = 64;

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

void set_bit(std::uint64_t* places, std::size_t place) {
  places[place / kBits] |= std::uint64_t{1} << (place % kBits);
}

bool has_bit(const std::uint64_t* places, std::size_t place) {
  return (places[place / kBits] >> (place % kBits) & 1) != 0;
}

}  // namespace

Glob::Glob(std::string pattern, Case letters) : pattern_(std::move(pattern)), letters_(letters) {
  while (pattern_.starts_with("./")) pattern_.erase(0, 2);
  while (pattern_.size() > 1 && pattern_.ends_with('/')) pattern_.pop_back();
  if (letters_ == Case::ignored) pattern_ = to_lower(pattern_);
  whole_path_ = pattern_.find('/') != std::string::npos || pattern_.find("**") != std::string::npos;
  if (pattern_.starts_with('/')) pattern_.erase(0, 1);
  compile();
}

/// Each thing in the pattern is a place; what stands for any number of characters has a step to the next
/// place that takes none. "**/" at the begin of a part is two places: one from which it can be passed over,
/// one within it.
void Glob::compile() {
  words_ = (pattern_.size() * 2 + 2) / kBits + 1;
  skips_one_.assign(words_, 0);
  skips_two_ = start_ = skips_one_;
  on_.assign(words_ * kLetters, 0);
  stays_ = on_;
  std::size_t place = 0;
  auto lead_on = [&](char c) { set_bit(&on_[static_cast<unsigned char>(c) * words_], place); };
  auto stay = [&](bool at_slash) {
    for (std::size_t c = 0; c < kLetters; ++c) {
      if (at_slash || c != '/') set_bit(&stays_[c * words_], place);
    }
  };
  for (std::size_t at = 0; at < pattern_.size(); ++place) {
    char c = pattern_[at];
    if (pattern_.compare(at, 3, "**/") == 0 && (at == 0 || pattern_[at - 1] == '/')) {
      set_bit(skips_one_.data(), place);
      set_bit(skips_two_.data(), place);
      ++place;
      stay(true);
      lead_on('/');
      at += 3;
    } else if (c == '*') {
      bool across = pattern_.compare(at, 2, "**") == 0;
      set_bit(skips_one_.data(), place);
      stay(across);
      at += across ? 2 : 1;
    } else if (c == '?' || c == '[') {
      std::size_t behind = at + 1;
      for (std::size_t one = 0; one < kLetters; ++one) {
        std::size_t end = at + 1;
        bool fits = c == '?';
        if (c == '[') {
          end = at;
          fits = set_matches(pattern_, end, static_cast<char>(one));
        }
        if (fits && one != '/') lead_on(static_cast<char>(one));
        behind = end;
      }
      at = behind;
    } else {
      if (c == '\\' && at + 1 < pattern_.size()) ++at;
      lead_on(pattern_[at++]);
    }
  }
  end_ = place;
  set_bit(start_.data(), 0);
  follow_free_steps(start_.data());
}

void Glob::follow_free_steps(std::uint64_t* places) const {
  for (bool changed = true; changed;) {
    changed = false;
    std::uint64_t carried = 0;
    for (std::size_t i = 0; i < words_; ++i) {
      std::uint64_t one = places[i] & skips_one_[i], two = places[i] & skips_two_[i];
      std::uint64_t reached = places[i] | one << 1 | two << 2 | carried;
      carried = one >> (kBits - 1) | two >> (kBits - 2);
      changed |= reached != places[i];
      places[i] = reached;
    }
  }
}

void Glob::take(std::uint64_t* places, char c) const {
  const std::uint64_t* on = &on_[static_cast<unsigned char>(c) * words_];
  const std::uint64_t* stays = &stays_[static_cast<unsigned char>(c) * words_];
  std::uint64_t carried = 0;
  for (std::size_t i = 0; i < words_; ++i) {
    std::uint64_t leaving = places[i] & on[i];
    places[i] = (places[i] & stays[i]) | leaving << 1 | carried;
    carried = leaving >> (kBits - 1);
  }
  follow_free_steps(places);
}

void Glob::step(std::uint64_t* places, char c) const {
  if (c != '/' || whole_path_) return take(places, c);
  std::copy(start_.begin(), start_.end(), places);
}

bool Glob::ends_at(const std::uint64_t* places) const {
  return has_bit(places, end_);
}

bool Glob::matches(std::string_view path) const {
  if (letters_ == Case::exact) return matches_here(path);
  std::string lower = to_lower(path);
  return matches_here(lower);
}

/// The path itself and each folder above it at once: the pattern fits when its end is reached where a part
/// ends.
bool Glob::matches_here(std::string_view path) const {
  while (path.ends_with('/')) path.remove_suffix(1);
  constexpr std::size_t kUsual = 4;
  std::uint64_t few[kUsual];
  Places many;
  if (words_ > kUsual) many.resize(words_);
  std::uint64_t* places = words_ > kUsual ? many.data() : few;
  std::copy(start_.begin(), start_.end(), places);
  for (std::size_t at = 0; at < path.size(); ++at) {
    if (path[at] == '/' && ends_at(places)) return true;
    step(places, path[at]);
    bool lost = std::all_of(places, places + words_, [](std::uint64_t word) { return word == 0; });
    if (!lost) continue;
    if (whole_path_) return false;
    at = path.find('/', at);
    if (at == std::string_view::npos) return false;
    --at;  // the next part begins behind the slash
  }
  return ends_at(places);
}

}  // namespace operculum

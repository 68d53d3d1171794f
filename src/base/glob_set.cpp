#include "base/glob_set.h"

#include <algorithm>

#include "base/text.h"

namespace operculum {
namespace {

constexpr std::uint32_t kUnknown = UINT32_MAX;
constexpr std::size_t kMostStates = 4096;  // of about a KiB

}  // namespace

std::size_t GlobSet::HashPlaces::operator()(const Places& places) const {
  std::uint64_t hash = 0;
  for (std::uint64_t word : places) hash = (hash ^ word) * 0x9E3779B97F4A7C15u ^ hash >> 29;
  return hash;
}

void GlobSet::add(Glob glob) {
  begins_.push_back(words_);
  words_ += glob.words_;
  folds_case_ |= glob.letters_ == Glob::Case::ignored;
  patterns_.push_back(std::move(glob));
  states_.clear();
  numbers_.clear();
}

std::uint32_t GlobSet::state_of(Places places) const {
  auto known = numbers_.find(places);
  if (known != numbers_.end()) return known->second;
  State state;
  state.next.fill(kUnknown);
  for (std::size_t i = 0; i < patterns_.size(); ++i)
    if (patterns_[i].ends_at(&places[begins_[i]])) state.accepted.push_back(static_cast<std::uint32_t>(i));
  auto number = static_cast<std::uint32_t>(states_.size());
  numbers_.emplace(places, number);
  state.places = std::move(places);
  states_.push_back(std::move(state));
  return number;
}

std::uint32_t GlobSet::step(std::uint32_t from, unsigned char c) const {
  Places places = states_[from].places;
  for (std::size_t i = 0; i < patterns_.size(); ++i)
    patterns_[i].step(&places[begins_[i]], static_cast<char>(c));
  if (states_.size() >= kMostStates) {  // the begin stays the first
    states_.resize(1);
    states_[0].next.fill(kUnknown);
    numbers_ = {{states_[0].places, 0}};
    return state_of(std::move(places));
  }
  std::uint32_t to = state_of(std::move(places));
  states_[from].next[c] = to;
  return to;
}

bool GlobSet::matches(std::string_view path, std::vector<bool>* fitted) const {
  if (patterns_.empty()) return false;
  if (!folds_case_) return matches_here(path, fitted);
  std::string lower = to_lower(path);
  return matches_here(lower, fitted);
}

/// As Glob::matches_here() of all patterns at once.
bool GlobSet::matches_here(std::string_view path, std::vector<bool>* fitted) const {
  while (path.ends_with('/')) path.remove_suffix(1);
  if (states_.empty()) {
    Places start(words_);
    for (std::size_t i = 0; i < patterns_.size(); ++i)
      std::copy(patterns_[i].start_.begin(), patterns_[i].start_.end(),
                start.begin() + static_cast<std::ptrdiff_t>(begins_[i]));
    state_of(std::move(start));
  }
  bool any = false;
  auto part_ends = [&](std::uint32_t state) {
    for (std::uint32_t pattern : states_[state].accepted) {
      any = true;
      if (fitted != nullptr) (*fitted)[pattern] = true;
    }
    return any && fitted == nullptr;
  };
  std::uint32_t state = 0;
  for (char one : path) {
    if (one == '/' && part_ends(state)) return true;
    auto c = static_cast<unsigned char>(one);
    std::uint32_t next = states_[state].next[c];
    state = next != kUnknown ? next : step(state, c);
  }
  part_ends(state);
  return any;
}

}  // namespace operculum

#pragma once

#include <array>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "base/glob.h"

namespace operculum {

/// Several patterns that are compared at once: a path takes one step for each of its characters, however many
/// there are. What the patterns together may have reached is one state; states and the steps between them are
/// worked out when they are met first, and forgotten when they become many. From one thread at a time.
class GlobSet {
 public:
  void add(Glob glob);
  const std::vector<Glob>& patterns() const { return patterns_; }
  bool empty() const { return patterns_.empty(); }

  /// Whether any pattern fits. `fitted`, where given, is set for each that does; it must have a place for
  /// each.
  bool matches(std::string_view path, std::vector<bool>* fitted = nullptr) const;

 private:
  using Places = std::vector<std::uint64_t>;  // of all patterns, one after another
  struct HashPlaces {
    std::size_t operator()(const Places& places) const;
  };
  struct State {
    Places places;
    std::array<std::uint32_t, 256> next;  // kUnknown until it is asked for
    std::vector<std::uint32_t> accepted;  // patterns that fit when a part of the path ends here
  };

  std::uint32_t state_of(Places places) const;
  std::uint32_t step(std::uint32_t from, unsigned char c) const;
  bool matches_here(std::string_view path, std::vector<bool>* fitted) const;

  std::vector<Glob> patterns_;
  std::vector<std::size_t> begins_;  // of each pattern's places, in words
  std::size_t words_ = 0;
  bool folds_case_ = false;
  mutable std::vector<State> states_;  // the first is that at the begin of a path
  mutable std::unordered_map<Places, std::uint32_t, HashPlaces> numbers_;
};

}  // namespace operculum

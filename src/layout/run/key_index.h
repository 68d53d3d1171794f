#pragma once

#include <algorithm>
#include <cstdint>
#include <span>
#include <vector>

namespace operculum::layout {

/// The elements of a list by a number that equal keys share: what has a key is found without going through
/// the list. 16 bytes for each element.
class KeyIndex {
 public:
  struct Row {
    std::uint64_t key, element;
    auto operator<=>(const Row&) const = default;
  };

  bool wanted = false;  ///< the list was looked through once: from now on an index pays
  bool tried = false;

  void fill(std::vector<Row> rows) {
    rows_ = std::move(rows);
    std::sort(rows_.begin(), rows_.end());
    filled_ = true;
  }
  bool filled() const { return filled_; }
  /// Those whose key may be the same, as they stand in the list.
  std::span<const Row> rows_of(std::uint64_t key) const {
    auto [begin, end] = std::equal_range(rows_.begin(), rows_.end(), Row{key, 0},
                                         [](const Row& a, const Row& b) { return a.key < b.key; });
    return {begin, end};
  }

 private:
  std::vector<Row> rows_;
  bool filled_ = false;
};

}  // namespace operculum::layout

#pragma once

#include <bit>
#include <cstdint>
#include <vector>

namespace operculum::layout {

/// The elements of a list by a number that equal keys share: what has a key is found without going through
/// the list. A hash table in two arrays; about 20 bytes for each element.
class KeyIndex {
 public:
  struct Row {
    std::uint64_t key, element;
  };

  bool wanted = false;  ///< the list was looked through once: from now on an index pays
  bool tried = false;

  /// `rows` are in the order of the list.
  void fill(const std::vector<Row>& rows) {
    if (rows.size() >= UINT32_MAX) return;
    shift_ = 64 - static_cast<unsigned>(std::bit_width(rows.size() | 1));
    starts_.assign((std::size_t{1} << (64 - shift_)) + 1, 0);
    for (const Row& row : rows) ++starts_[bucket(row.key) + 1];
    for (std::size_t i = 1; i < starts_.size(); ++i) starts_[i] += starts_[i - 1];
    std::vector<std::uint32_t> next(starts_.begin(), starts_.end() - 1);
    rows_.resize(rows.size());
    for (const Row& row : rows) rows_[next[bucket(row.key)]++] = row;
  }
  bool filled() const { return !starts_.empty(); }

  /// Shows the elements whose key may be the same, as they stand in the list, until `visit` says false.
  template <typename Visit>
  void each(std::uint64_t key, Visit visit) const {
    std::size_t at = bucket(key);
    for (std::size_t i = starts_[at]; i < starts_[at + 1]; ++i)
      if (rows_[i].key == key && !visit(rows_[i].element)) return;
  }

 private:
  std::size_t bucket(std::uint64_t key) const { return (key * 0x9E3779B97F4A7C15) >> shift_; }

  std::vector<Row> rows_;  // by bucket, then as they stand in the list
  std::vector<std::uint32_t> starts_;
  unsigned shift_ = 0;
};

}  // namespace operculum::layout

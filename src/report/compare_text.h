#pragma once

#include <functional>
#include <string>

#include "collection/compare.h"

namespace operculum {

/// Bytes of each side in a row of a hex view of two files.
inline constexpr std::size_t kHexRow = 8;

/// One such row.
struct HexPair {
  std::uint64_t at = 0;  ///< offset of the row, the same in both
  ByteView before, after;
};

/// The excerpts of a diff in rows of eight bytes, fewer where a file ends.
std::vector<HexPair> hex_pairs(const ByteDiff& diff);

/// One side of a row as digits, as wide as eight bytes; those that the other side has not are given to
/// `mark`.
std::string hex_digits(ByteView ours, ByteView theirs,
                       const std::function<std::string(const std::string& digits)>& mark);

/// What happened to an entry, in a few words: "412 to 431 bytes; 2 lines more, 1 fewer".
std::string difference_text(const Difference& difference);

/// "40 the same, 2 changed, 1 moved; the order is another".
std::string totals_text(const CompareTotals& totals);

/// A whole page of the differences between two places, self-contained.
class ComparePage {
 public:
  ComparePage(std::string before, std::string after) : before_(std::move(before)), after_(std::move(after)) {}
  void add(const Difference& difference);  ///< of very many the first of each kind are shown
  std::string finish(const CompareTotals& totals) const;

 private:
  static constexpr std::size_t kShown = 200;  ///< of each kind

  std::string before_, after_;
  std::array<std::string, 6> sections_;  // by Difference::Kind
  std::array<std::uint64_t, 6> counts_{};
};

}  // namespace operculum

#pragma once

#include <cstdint>
#include <vector>

#include "study/columns.h"

namespace operculum::study {

/// The logarithm of value + 1, straight between powers of two.
double log2_of(std::uint64_t value);

/// A column as numbers.
struct Candidate {
  Column column;
  std::vector<std::uint64_t> values;
  std::uint64_t least, most;
};

/// Settles what a column is counted from; false where its numbers cannot be counted like that.
bool settle(Column& column, const Grid& grid);

/// The numbers of a column.
Candidate numbers_of(const Grid& grid, const Column& column);

/// Entries in the order of where they begin.
struct Runs {
  std::vector<std::size_t> rows;    ///< by place; of equal places the first
  std::vector<std::size_t> all;     ///< with those of equal places, one behind the other
  std::vector<std::size_t> begins;  ///< of each of `rows`, where its equals begin in `all`
  std::vector<std::uint64_t> room;  ///< up to the next place, beside it; the last one's is not known
  bool in_order = true;
  double surprise = 0;  ///< the most that sizes which fit can tell, in bits
  unsigned zeros = 0;   ///< low bits that are zero in all places
};
Runs runs_of(const Grid& grid, const Candidate& offset);

constexpr std::size_t kMostShared = 3;    ///< rows to each place, in the mean
constexpr std::uint64_t kMostGap = 4096;  ///< bytes of filling between entries

/// How well sizes fill the room that offsets leave.
struct Filling {
  double bits = -1;
  std::uint64_t align = 1;
};
/// `shift` is how many rows behind the offset the size lies; `is_end` that it tells where data ends.
Filling fill(const Candidate& offset, const Runs& runs, std::uint64_t factor, const Candidate& size,
             bool is_end, int shift);

}  // namespace operculum::study

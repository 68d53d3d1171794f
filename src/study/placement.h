#pragma once

#include <optional>
#include <span>

#include "study/pairs.h"

namespace operculum::study {

/// Where the data of all entries lies, as offsets and sizes tell together.
struct Placement {
  std::optional<Column> offset, size;  ///< without the one, entries lie one behind the other; without the
                                       ///< other, each ends where the next one begins
  bool size_is_end = false;            ///< the second column tells where data ends
  std::int64_t bias = 0;               ///< bytes that a size counts beside the data
  bool counts_rest = false;            ///< a size counts all of the header that lies behind it, too
  std::uint64_t base = 0;              ///< added to offsets
  std::uint64_t begin = 0, end = 0;    ///< of all data, in the file that it lies in
  std::uint64_t align = 1;             ///< gaps between entries are smaller than this
  bool in_order = true;                ///< offsets ascend
  double bits = 0;                     ///< how unlikely chance is, as a logarithm
};

/// What the search for a placement may rely on.
struct Zone {
  std::uint64_t file_size = 0;                   ///< of the file that the data lies in
  std::uint64_t first = 0;                       ///< data cannot begin before this
  std::uint64_t table_begin = 0, table_end = 0;  ///< equal where the index is no part of that file
  std::span<const std::uint64_t> anchors = {};   ///< where something begins that is recognised, ascending
};

/// Where such a pair (shift 0) puts the data; nothing when it cannot be there.
std::optional<Placement> place(const Grid& grid, const Zone& zone, const Pair& pair);

/// A column of sizes of data that lies one behind the other; nothing when there is none.
std::optional<Placement> place_by_sizes(const Grid& grid, const Zone& zone);

}  // namespace operculum::study

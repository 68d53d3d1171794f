#pragma once

#include <optional>
#include <vector>

#include "study/columns.h"

namespace operculum::study {

/// Two columns that are a place and a size together, or a place alone.
struct Pair {
  Column offset;
  std::optional<Column> size;
  bool size_is_end = false;
  int shift = 0;  ///< the size lies so many rows behind the offset: the rows were cut at the wrong byte
  double bits = 0;
};

/// Columns of the grid that place data, the likeliest first: wherever its rows were cut, if only at the right
/// distance. `free` tells which bytes of a row are nothing else, such as a name.
std::vector<Pair> find_pairs(const Grid& grid, std::uint64_t file_size, const std::vector<bool>& free);

}  // namespace operculum::study

#pragma once

#include <optional>

#include "study/columns.h"
#include "study/frame.h"

namespace operculum::study {

/// Texts at fixed places of all records: names, and tags (texts that few rows differ in, Role::other).
std::vector<Column> find_texts(const Grid& grid);

/// The text of a column in a row, without its filling.
std::string text_of(const Grid& grid, const Column& column, std::size_t row);

/// Names that lie in a table of their own, each ended by a zero byte.
struct NameTable {
  std::uint64_t at = 0;  ///< where the table begins, in the space
  std::optional<Column>
      place;  ///< tells where in it a name begins; without, they are in the order of records
  double bits = 0;
  std::vector<std::string> texts;  ///< of the rows at hand; empty where there is none
};

/// `free` tells which bytes of a record are nothing else; `places` where a table may begin.
std::optional<NameTable> find_name_table(const Grid& grid, const Subject& subject,
                                         const std::vector<bool>& free,
                                         const std::vector<std::uint64_t>& places);

}  // namespace operculum::study

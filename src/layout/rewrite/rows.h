#pragma once

#include "layout/rewrite/survey.h"

namespace operculum::layout {

/// An element of a list in the container's own bytes, from which an entry comes.
struct Row {
  const ListSeen* list = nullptr;
  std::size_t number = 0;  ///< in its list
  std::uint64_t begin = 0, end = 0;
};

/// The element of a list that a byte lies in.
std::optional<Row> row_at(const ListSeen& list, std::uint64_t at);

/// Rows of lists that have one for each entry, then those that hold the entry's name or bytes, the smallest
/// ones with both first, then those whose numbers lead to its bytes.
std::vector<Row> rows_of(const Survey& survey, std::size_t index);

/// A number of the container that becomes greater or, with a negative one, less.
struct NumberChange {
  NumberRead read;
  std::int64_t by = 0;
};

/// The number that tells how many elements a list has, and by how much they are more; nothing where none
/// does.
std::vector<NumberChange> count_change(const Survey& survey, const ListSeen& list, std::int64_t by);

/// Numbers within a list's elements that may be numbers of its elements: for each field that could be one,
/// those from `first` on, to be changed by so much.
std::vector<std::vector<NumberChange>> element_numbers(const Survey& survey, const ListSeen& list,
                                                       std::size_t first, std::int64_t by);

}  // namespace operculum::layout

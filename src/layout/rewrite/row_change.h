#pragma once

#include "layout/rewrite/attempt.h"

namespace operculum::layout {

/// Ways in which the entry's row may be taken out of its table, likeliest first; none where no table was seen
/// that has a row for each entry.
std::vector<RowChange> ways_to_remove(const Survey& survey, std::size_t index);

/// Ways in which it may get another path.
std::vector<RowChange> ways_to_rename(const Survey& survey, std::size_t index, const std::string& path);

/// Ways in which a row for a new entry may be put in, made of the row of another one: it leads to that one's
/// data until it gets its own.
std::vector<RowChange> ways_to_add(const Survey& survey, std::size_t like, const std::string& path);

}  // namespace operculum::layout

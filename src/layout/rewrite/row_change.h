#pragma once

#include "layout/rewrite/attempt.h"

namespace operculum::layout {

/// Ways in which what the entries from that one on come from may be taken out of their list, likeliest first.
std::vector<RowChange> ways_to_remove(const Survey& survey, std::size_t index, std::size_t count = 1);

/// Ways in which the numbers that lead to it may lead on to what it leads to, or nowhere: of links and trees.
std::vector<RowChange> ways_to_unlink(const Survey& survey, std::size_t index);

/// Ways in which it may get another path.
std::vector<RowChange> ways_to_rename(const Survey& survey, std::size_t index, const std::string& path);

/// Ways in which an entry may be put in that is the same as another one, in its path, too, until it gets its
/// own, `path`.
std::vector<RowChange> ways_to_double(const Survey& survey, std::size_t like, const std::string& path);

}  // namespace operculum::layout

#pragma once

#include <vector>

#include "study/placement.h"

namespace operculum::study {

/// Where texts end at a zero, the number in front of them, or the last one of the record in front, may end in
/// bytes that could be letters: the same records with those bytes given back to it, and the columns moved
/// along. Bytes that are no ASCII, in front of names that are otherwise, tell; and a letter that hardly ever
/// changes, where it completes a number.
Grid settle_names(Grid grid, std::vector<Pair>& pairs, std::optional<Placement>& known);

/// Gives such bytes of a text at a fixed place of all records back.
void free_name(Column& text, const Grid& grid);

/// What speaks against the way in which records are cut into fields, in bits: bytes left over that are no
/// whole number, numbers at odd places, both orders of bytes. Of explanations that are as good otherwise the
/// tidier one is likelier.
double bits_against_cut(const std::vector<Column>& columns, const Grid& grid);

}  // namespace operculum::study

#pragma once

#include <vector>

#include "study/columns.h"

namespace operculum::study {

/// Where texts end at a zero, the number in front of them may end in bytes that could be letters: how many
/// first bytes of the texts belong to it. Bytes that are no ASCII, in front of names that are otherwise,
/// tell; and a letter that hardly ever changes, where it completes a number.
std::size_t numbers_in_names(const Grid& grid);

/// The same records with so many bytes of each text given to the fixed bytes in front of it.
Grid with_names_freed(Grid grid, std::size_t count);

/// The same where names come first: how many first bytes of all texts but the first belong to the record in
/// front.
std::size_t numbers_in_next_names(const Grid& grid);
Grid with_next_names_freed(Grid grid, std::size_t count);

/// Gives such bytes of a text at a fixed place of all records back.
void free_name(Column& text, const Grid& grid);

/// What speaks against the way in which records are cut into fields, in bits: bytes left over that are no
/// whole number, numbers at odd places, both orders of bytes. Of explanations that are as good otherwise the
/// tidier one is likelier.
double bits_against_cut(const std::vector<Column>& columns, const Grid& grid);

}  // namespace operculum::study

#pragma once

#include "io/source.h"

namespace operculum {

// Filling: a run of bytes that are all 0, or all 0xFF, as what is between and behind things is filled up
// with.

/// How closely it is looked at.
enum class Look {
  whole,    ///< every byte
  samples,  ///< of long runs some, so that it takes moments however long they are: to tell beforehand
};

/// How many bytes of filling a stretch begins with.
std::uint64_t filling_at(const Source& source, std::uint64_t begin, std::uint64_t size);

/// Whether the bytes from `begin` up to `end`, or the source's, are filling; of none true. Holes are not
/// read.
bool is_filling(const Source& source, std::uint64_t begin, std::uint64_t end, Look look = Look::whole);

/// Where the filling begins that the source ends with, at `from` at the earliest; its size where there is
/// none. With samples it may be told too late, by a long run too short.
std::uint64_t filling_at_end(const Source& source, std::uint64_t from, Look look = Look::whole);

}  // namespace operculum

#pragma once

#include "layout/fresh/reading.h"

namespace operculum::layout {

// Other bytes that may be read further than some that were. Each is tried; what does not help is forgotten.

/// The same bytes with another value of a number; nothing where it has no room.
std::optional<Bytes> with_value(const Bytes& bytes, const NumberRead& read, std::int64_t value);

/// The same bytes with so many zeros behind them; parts that ended there, and of which a number tells the
/// size, grow with them.
Bytes grown(const Reading& reading, std::uint64_t more);

/// Where something was expected and not found: it is put there; numbers and texts become what they were
/// compared with; likeliest first.
std::vector<Bytes> corrections(const Reading& reading);

/// A text that the first file's path may come from, as `name`: in its room, or put in with the number that
/// tells its length.
std::vector<Bytes> with_names(const Reading& reading, const std::string& name);

/// A number that may be the hash of the first file's path, as that of `name`.
std::vector<Bytes> with_hashes(const Reading& reading, const std::string& name);

/// The sum as it has to be, in each place where it may stand.
std::vector<Bytes> with_sum(const Reading& reading, const DifferingCheck& check);

/// These bytes put in where those of the first file are to lie.
Bytes with_data(const Reading& reading, ByteView stored);

/// Places that a number may tell: the end of the bytes, and beyond it where they are counted in units.
std::vector<std::int64_t> places_behind(const Reading& reading);

}  // namespace operculum::layout

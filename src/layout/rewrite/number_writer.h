#pragma once

#include "io/source.h"
#include "layout/run/recorder.h"

namespace operculum::layout {

/// The bytes that make a number that was read have another value, in the width that it has; nothing when they
/// have no room for it, or its arithmetic has no way back. `source` has the bytes that were read.
std::optional<Bytes> bytes_for(const NumberRead& read, std::int64_t value, const Source& source);

/// How many bytes such a number takes where its form lets it take more than it has: groups of seven bits, and
/// digits up to a mark or a blank. Nothing where it does not.
std::optional<unsigned> wider_for(const NumberRead& read, std::int64_t value, const Source& source);

/// The same number in a width of its own, wider_for() some value.
std::optional<Bytes> bytes_in(unsigned width, const NumberRead& read, std::int64_t value,
                              const Source& source);

}  // namespace operculum::layout

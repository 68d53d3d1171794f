#pragma once

#include "io/source.h"

namespace operculum {

/// Everything that comes in on standard input, read to its end once and kept for the rest of the run: in
/// memory while it is small, then in an unnamed temporary file of `most_disk` bytes at most. Throws
/// LimitExceeded, IoError. Safe to call from several threads.
SourcePtr standard_input(std::uint64_t most_disk);

}  // namespace operculum

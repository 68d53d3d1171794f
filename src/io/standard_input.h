#pragma once

#include "io/stream.h"

namespace operculum {

/// Everything that comes in on standard input, read to its end once and kept for the rest of the run: in
/// memory while it is small, then in an unnamed temporary file of `most_disk` bytes at most. Throws
/// LimitExceeded, IoError. `begun` is a stream of all of it of which a part was looked at already. Safe to
/// call from several threads.
SourcePtr standard_input(std::uint64_t most_disk, StreamPtr begun = nullptr);

/// The same as it comes in, for whoever needs it once. Throws Error for a terminal.
StreamPtr standard_input_stream();

}  // namespace operculum

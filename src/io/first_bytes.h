#pragma once

#include "io/stream.h"

namespace operculum {

/// The first `size` bytes of a stream, or all where it has fewer.
StreamPtr make_first_bytes(StreamPtr inner, std::uint64_t size);

}  // namespace operculum

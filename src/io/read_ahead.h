#pragma once

#include "io/stream.h"

namespace operculum {

/// Reads `inner` on a thread of its own, a few blocks ahead, so that decoding and what is done with the
/// decoded bytes happen at the same time. Errors of the inner stream arrive in order, after the bytes before
/// them.
StreamPtr make_read_ahead(StreamPtr inner);

}  // namespace operculum

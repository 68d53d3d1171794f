#pragma once

#include <functional>

#include "io/source.h"

namespace operculum {

/// Bytes that a key gives: `unlock` is called when the first of them is wanted, so that what stands in front
/// of them can be told without a key. What it throws reaches the reader, and the next one tries again.
SourcePtr make_locked(std::uint64_t size, std::function<SourcePtr()> unlock);

}  // namespace operculum

#pragma once

#include "container/probe.h"

namespace operculum {

/// `read(at, count)` of what a recogniser may look at, for searches that serve recognition and opening alike;
/// the probe outlives it.
inline auto reader_of(Probe& probe) {
  return [&probe](std::uint64_t at, std::size_t count) { return probe.at(at, count); };
}

}  // namespace operculum

#pragma once

#include <functional>

#include "io/stream.h"

namespace operculum {

/// Whether two streams give the same bytes to their ends. `watch` is called with the bytes compared after
/// each step.
bool same_bytes(
    Stream& a, Stream& b, const std::function<void(std::uint64_t)>& watch = [](std::uint64_t) {});

/// Whether `length` bytes of two sources are the same, from these offsets on; false where one ends before.
bool same_range(const Source& a, std::uint64_t a_at, const Source& b, std::uint64_t b_at,
                std::uint64_t length);

}  // namespace operculum

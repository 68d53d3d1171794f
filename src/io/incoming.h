#pragma once

#include <functional>

#include "io/stream.h"

namespace operculum {

/// Bytes that come in once, forwards, as a pipe gives them, and are kept nowhere. Their front is kept for a
/// while, so that recognisers can look at it: as long as no more than kLookAgain bytes were read, stream()
/// begins at the first byte again; then it, and a stream that was left behind, throw Error of kind io, which
/// names `what`. `came` is told of each piece.
ContentPtr make_incoming(StreamPtr origin, std::string what, std::function<void(std::uint64_t bytes)> came);

constexpr std::size_t kLookAgain = 4 << 20;  ///< bytes

}  // namespace operculum

#pragma once

#include "container/format.h"

namespace operculum {

/// A container that lies somewhere within other bytes.
struct Embedded {
  std::uint64_t at = 0, size = 0;  ///< up to where it, or else the range that was searched, ends; bytes
  const Format* format = nullptr;
};

/// Containers that begin anywhere in `size` bytes from `at`: found by their marks, then recognised strictly
/// and opened on trial, so that bytes which look like a mark by chance are passed over. Behind the first one
/// whose end is not stated the search stops.
std::vector<Embedded> find_embedded(const SourcePtr& bytes, std::uint64_t at, std::uint64_t size,
                                    OpenContext& context);

/// "offset-0000f800.cab": a name for what was found.
std::string name_of(const Embedded& embedded);

}  // namespace operculum

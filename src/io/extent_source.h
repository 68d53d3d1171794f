#pragma once

#include "io/stream.h"

namespace operculum {

/// A run of an entry's data that lies somewhere in the container; what no extent covers reads as zeros (a
/// hole).
struct Extent {
  std::uint64_t logical;  ///< offset in the entry
  std::uint64_t stored;   ///< offset in the container
  std::uint64_t length;   ///< in bytes
};

/// An entry put together from extents of `whole`, `size` bytes long. The extents must be in rising logical
/// order and must not overlap; throws Malformed otherwise.
SourcePtr make_extent_source(SourcePtr whole, std::vector<Extent> extents, std::uint64_t size);

/// The same from a stream that yields the extents' bytes one after another.
StreamPtr make_extent_stream(StreamPtr packed, std::vector<Extent> extents, std::uint64_t size);

/// Throws Malformed unless the extents rise, do not overlap and stay within `size`.
void check_extents(const std::vector<Extent>& extents, std::uint64_t size);

}  // namespace operculum

#pragma once

#include <vector>

#include "io/stream.h"

namespace operculum {

/// Where two files differ, byte held against byte at the same offset.
struct ByteDiff {
  struct Range {
    std::uint64_t begin = 0, end = 0;  ///< offsets in bytes
  };

  std::uint64_t before_size = 0, after_size = 0;  ///< in bytes
  std::uint64_t differing = 0;                    ///< bytes, of those that both have
  std::uint64_t range_count = 0;
  std::vector<Range> ranges;        ///< the first kKeptRanges of them
  std::uint64_t shown_at = 0;       ///< where the two excerpts begin; on a line of a hex view
  Bytes before_bytes, after_bytes;  ///< around the first difference, kShown bytes at most

  static constexpr std::size_t kKeptRanges = 256;
  static constexpr std::size_t kShown = 32;
};

/// Reads both to their ends; `watch` is called with the number of bytes after each step. Throws what the
/// streams throw.
ByteDiff diff_bytes(Stream& before, Stream& after, const std::function<void(std::uint64_t)>& watch);

}  // namespace operculum

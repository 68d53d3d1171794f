#pragma once

#include <algorithm>
#include <vector>

#include "container/rewrite.h"

namespace operculum {

/// Which blocks of a disk hold anything: what wrappers leave out need not be written. Holes are not read.
std::vector<bool> blocks_in_use(const Source& disk, std::uint64_t block_size);

/// The disk that is to be wrapped, with random access. Throws Unsupported when it is not one file.
SourcePtr single_disk(const std::vector<NewEntry>& entries, const Writing& writing);

/// Calls `change(at, length)` for each stretch of a disk that may hold other bytes than before, none across
/// the end of a block; what lies there as it lay is passed over unread.
template <typename Change>
void each_change(const Source& before, const Source& after, std::uint64_t block_size, Change change) {
  for (std::uint64_t at = 0; at < after.size();) {
    auto same = trace(after, at, before);
    if (same && same->at == at) {
      at += same->length;
      continue;
    }
    std::uint64_t left = block_size - at % block_size;
    change(at, std::min(left, after.size() - at));
    at += left;
  }
}

/// Adds a block of a disk, filled up with zeros where the disk ends.
void add_block(Assembly& out, const SourcePtr& disk, std::uint64_t index, std::uint64_t block_size);

}  // namespace operculum

#pragma once

#include <vector>

#include "container/rewrite.h"

namespace operculum {

/// Which blocks of a disk hold anything: what wrappers leave out need not be written. Holes are not read.
std::vector<bool> blocks_in_use(const Source& disk, std::uint64_t block_size);

/// The disk that is to be wrapped, with random access. Throws Unsupported when it is not one file.
SourcePtr single_disk(const std::vector<NewEntry>& entries, const Writing& writing);

/// Adds a block of a disk, filled up with zeros where the disk ends.
void add_block(Assembly& out, const SourcePtr& disk, std::uint64_t index, std::uint64_t block_size);

}  // namespace operculum

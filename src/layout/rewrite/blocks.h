#pragma once

#include "codec/pack_settings.h"
#include "io/assembly.h"
#include "layout/described_container.h"
#include "layout/rewrite/extents.h"

namespace operculum::layout {

/// An entry's data in blocks that are packed one by one, right behind a table of their sizes as they lie
/// there.
struct Blocks {
  NumberRead first;                    ///< of the table: how its numbers are written
  std::vector<std::uint64_t> lengths;  ///< of the blocks as they lie there, in bytes
  std::vector<Step> steps;             ///< that packed blocks go through; others are plain
  std::uint64_t end = 0;               ///< of the last block
};

/// Nothing where the entry's data lies in another way.
std::optional<Blocks> blocks_of(const EntryLook& look, const Source& base);

/// Where an entry's bytes lie in `base` when they are one run of it, be it an empty one; of blocks with the
/// table of their sizes.
Extent extent_of(const EntryLook& look, const Source& base);

/// A content as table and blocks: each of `block_size` plain bytes but for the last, packed where that makes
/// it smaller. Throws Unsupported where a size has no room in the table.
Assembly in_blocks(const Blocks& blocks, const Content& content, std::uint64_t block_size,
                   const PackSettings& settings, const Source& base);

}  // namespace operculum::layout

#pragma once

#include <functional>

#include "io/block_source.h"

namespace operculum::erofs {

/// How a block of a packed file is kept (Block::tag).
enum Packing : std::uint32_t {
  lz4_packing = 0,
  lzma_packing = 1,
  deflate_packing = 2,
  zstd_packing = 3,
  shifted_packing,     ///< as it is
  interlaced_packing,  ///< as it is, with what belongs before a block border moved behind the rest
  fragment_packing,    ///< at stored_offset of the file that holds all fragments
};

/// What is needed to find the blocks of a packed file.
struct PackedFile {
  std::uint64_t size = 0;    ///< unpacked
  std::uint64_t map_at = 0;  ///< where the map header is
  std::uint32_t block_size = 0;
  bool compact = false;         ///< indexes of 2 or 4 bytes instead of 8
  std::uint64_t fragments = 0;  ///< bytes of the file that holds fragments
};

/// The blocks of a file packed by EROFS, in rising order, from its map in `meta`. Throws Malformed and
/// Unsupported.
std::vector<Block> map_blocks(const Source& meta, const PackedFile& file);

}  // namespace operculum::erofs

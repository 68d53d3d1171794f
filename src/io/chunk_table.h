#pragma once

#include "io/block_content.h"

namespace operculum {

/// Bytes packed in chunks of one size, behind a table of where each chunk but the first begins. The table's
/// numbers count from its end; they have 32 bits, 64 where the unpacked size needs it. Windows imaging
/// archives and the packed files of NTFS hold data so.
struct ChunkTable {
  std::uint64_t offset = 0, stored = 0;  ///< of the table and what it describes, in bytes
  std::uint64_t size = 0;                ///< unpacked bytes
  std::uint32_t chunk = 0;               ///< unpacked bytes of every chunk but the last
};

/// The unpacked bytes; a chunk that did not get shorter is stored as it is, the others are decoded with
/// `decode`. Throws Malformed when the table cannot be.
ContentPtr make_chunk_content(const SourcePtr& bytes, const ChunkTable& table,
                              std::function<void(ByteView packed, ByteSpan out)> decode);

/// The same for chunks whose places are known.
ContentPtr make_chunk_content(const SourcePtr& bytes, std::vector<Block> chunks,
                              std::function<void(ByteView packed, ByteSpan out)> decode);

}  // namespace operculum

#pragma once

#include <optional>
#include <vector>

#include "codec/block.h"

namespace operculum {

/// How the blocks of one image are packed. Where several strategies or filters stand here, each block gets
/// the one that makes it smallest.
struct BlockPacking {
  std::optional<int> level;            ///< in the codec's own scale; nothing: its usual one
  int window_bits = 15;                ///< zlib
  std::vector<int> strategies = {0};   ///< zlib's numbers
  std::uint32_t dictionary_size = 0;   ///< LZMA and xz, in bytes
  std::vector<std::uint64_t> filters;  ///< xz: ids, each in front of LZMA2; none is always tried
  unsigned variant = 4;                ///< LZO: 0 to 3 are LZO1X-1, -1(11), -1(12), -1(15); 4 is LZO1X-999
};

/// A block as decode_block() takes it; nothing where it gets no smaller. Throws Unsupported for codecs and
/// settings that do not write.
std::optional<Bytes> pack_block(BlockCodec codec, ByteView plain, const BlockPacking& packing);

}  // namespace operculum

#pragma once

#include <string_view>

#include "base/bytes.h"

namespace operculum {

/// How a block of a file system or disk image is packed: each stands alone and decodes as a whole.
enum class BlockCodec {
  stored,
  deflate,  ///< RFC 1951
  zlib,     ///< RFC 1950
  bzip2,
  lzma_alone,  ///< with a header of 13 bytes
  micro_lzma,  ///< raw LZMA whose first byte holds the inverted properties, as EROFS has it
  xz,
  lzo,          ///< LZO1X
  lz4,          ///< block format without a frame
  lz4_partial,  ///< the same, decoded only as far as there is room
  zstd,
};

std::string_view name_of(BlockCodec codec);

/// Decodes `packed` into the front of `out`; returns how many bytes came out. `packed` may have padding
/// behind it where the codec can tell its end. Throws Malformed when it is damaged or gives more than there
/// is room for.
std::size_t decode_block(BlockCodec codec, ByteView packed, ByteSpan out);

/// LZMA without a header: whoever packed it tells its properties, and nothing its end.
struct LzmaBlock {
  static constexpr Byte kUsualProperties = 93;        ///< lc 3, lp 0, pb 2
  static constexpr unsigned kProperties = 9 * 5 * 5;  ///< as many values there are
  unsigned properties;                                ///< (pb * 5 + lp) * 9 + lc
  ByteView packed;
};

/// Decodes it until `out` is full or the packed bytes end; returns how many bytes came out, which may be a
/// few more than were packed. Throws Malformed when it is damaged.
std::size_t decode_lzma(const LzmaBlock& block, ByteSpan out);

}  // namespace operculum

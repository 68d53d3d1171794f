#pragma once

#include <vector>

#include "base/bytes.h"

namespace operculum::test {

/// How LZX data is to be written.
struct LzxOptions {
  unsigned window_bits = 15;
  enum class Blocks { verbatim, aligned, plain, mixed } blocks = Blocks::verbatim;
  std::int32_t translate = 0;   ///< not 0: calls are translated for a file of this size
  std::size_t block = 100'000;  ///< unpacked bytes of a block, over frame borders
};

/// Frames of 32 KiB as cabinets hold them, one after another.
std::vector<Bytes> pack_lzx(ByteView plain, const LzxOptions& options);

/// One chunk as disk image archives hold it.
Bytes pack_lzx_chunk(ByteView plain, unsigned window_bits);

}  // namespace operculum::test

#pragma once

#include "io/block_source.h"
#include "io/stream.h"

namespace operculum {

/// Decodes one block into `out`, which has exactly its unpacked size; throws Malformed.
using DecodeInto = std::function<void(const Block& block, ByteSpan out)>;

/// A file kept in independently packed blocks, in rising order without gaps: its stream decodes straight to
/// where the bytes are wanted, its source keeps the blocks used last.
ContentPtr make_block_content(std::vector<Block> blocks, DecodeInto decode);

}  // namespace operculum

#pragma once

#include "codec/block.h"
#include "support/sample_tree.h"

namespace operculum::test {

/// An EROFS image of the files directly in the root, each packed by the codec (LZ4, LZMA, deflate or zstd) in
/// clusters of 4096 bytes with a full index; other kinds of entries are left out.
Bytes make_erofs(const SampleTree& tree, BlockCodec codec);

}  // namespace operculum::test

#pragma once

#include "codec/block.h"

namespace operculum::test {

/// `plain` packed by the codec, by the libraries whose decoders are not under test.
Bytes pack_block(BlockCodec codec, ByteView plain);

}  // namespace operculum::test

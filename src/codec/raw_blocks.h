#pragma once

#include <optional>

#include "io/stream.h"

namespace operculum {

/// Blocks without any frame around them, decoded as a whole: at most 64 MiB packed and 256 MiB unpacked.
/// `size` is the unpacked size in bytes, where known. Throw Malformed, and LimitExceeded for larger ones.
StreamPtr open_lz4_block(StreamPtr packed, std::optional<std::uint64_t> size);  // LZ4 block format 1.6
StreamPtr open_lzo(StreamPtr packed, std::optional<std::uint64_t> size);        // LZO1X

/// The other way; at most 256 MiB. Throw Unsupported when the library cannot.
Bytes pack_lz4_block(ByteView plain, std::optional<int> level);  // a level above 2 is the slower, denser way
Bytes pack_lzo(ByteView plain);

}  // namespace operculum

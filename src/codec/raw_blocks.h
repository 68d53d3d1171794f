#pragma once

#include <functional>
#include <optional>
#include <string_view>

#include "io/stream.h"

namespace operculum {

/// Blocks without any frame around them, decoded as a whole: at most 64 MiB packed and 256 MiB unpacked.
/// `size` is the unpacked size in bytes, where known. Throw Malformed, and LimitExceeded for larger ones.
StreamPtr open_lz4_block(StreamPtr packed, std::optional<std::uint64_t> size);  // LZ4 block format 1.6
StreamPtr open_lzo(StreamPtr packed, std::optional<std::uint64_t> size);        // LZO1X

/// Fills `out` from a whole block and returns how many bytes came out; throws Malformed.
using BlockDecoder = std::function<std::size_t(ByteView packed, ByteSpan out)>;

/// The same for a block whose unpacked size has to be known; throws Malformed without one, and when fewer
/// bytes come out. `name` is for messages.
StreamPtr open_sized_block(StreamPtr packed, std::string_view name, std::optional<std::uint64_t> size,
                           BlockDecoder decode);

/// The other way; at most 256 MiB. Throw Unsupported when the library cannot.
Bytes pack_lz4_block(ByteView plain, std::optional<int> level);  // a level above 2 is the slower, denser way
Bytes pack_lzo(ByteView plain);

}  // namespace operculum

#pragma once

#include "codec/codec.h"

namespace operculum {

// The members of the codec table; see codec.h for what each must do. One file per library.

StreamPtr open_deflate(StreamPtr packed, const CodecOptions& options);  // RFC 1951
StreamPtr open_zlib(StreamPtr packed, const CodecOptions& options);     // RFC 1950
StreamPtr open_gzip(StreamPtr packed, const CodecOptions& options);     // RFC 1952, several members
bool decode_deflate_whole(ByteView packed, ByteSpan out);

StreamPtr open_deflate64(StreamPtr packed, const CodecOptions& options);  // APPNOTE 4.4.5, method 9

/// APPNOTE 5.1 to 5.3, methods 1 to 6, and 10. Of imploded data the first byte of the properties holds the
/// flags.
StreamPtr open_shrink(StreamPtr packed, const CodecOptions& options);
template <unsigned Factor>
StreamPtr open_reduce(StreamPtr packed, const CodecOptions& options);
constexpr std::uint8_t implode_large_window = 2, implode_three_trees = 4;  // as ZIP's own flags
StreamPtr open_implode(StreamPtr packed, const CodecOptions& options);
StreamPtr open_dcl_implode(StreamPtr packed, const CodecOptions& options);

StreamPtr open_bzip2(StreamPtr packed, const CodecOptions& options);  // several streams

StreamPtr open_lzma(StreamPtr packed, const CodecOptions& options);        // raw LZMA1, properties given
StreamPtr open_lzma_alone(StreamPtr packed, const CodecOptions& options);  // the 13-byte header in front
StreamPtr open_xz(StreamPtr packed, const CodecOptions& options);  // .xz format 1.1.0, several streams

StreamPtr open_zstd(StreamPtr packed, const CodecOptions& options);  // RFC 8878, skippable frames
bool decode_zstd_whole(ByteView packed, ByteSpan out);

StreamPtr open_lz4(StreamPtr packed, const CodecOptions& options);  // LZ4 frame 1.6.2 and legacy frames

StreamPtr open_lzo_file(StreamPtr packed, const CodecOptions& options);  // see lzo_file.h

StreamPtr open_brotli(StreamPtr packed, const CodecOptions& options);  // RFC 7932

StreamPtr open_compress(StreamPtr packed, const CodecOptions& options);  // LZW with 9 to 16 bits

}  // namespace operculum

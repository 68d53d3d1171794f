#pragma once

#include "codec/pack_settings.h"
#include "io/stream.h"

namespace operculum {

// The encoders of the codec table: each yields `plain` packed. One file a library.

StreamPtr pack_deflate(StreamPtr plain, const PackSettings& settings);    // RFC 1951
StreamPtr pack_deflate64(StreamPtr plain, const PackSettings& settings);  // APPNOTE 4.4.5, method 9
StreamPtr pack_zlib(StreamPtr plain, const PackSettings& settings);       // RFC 1950
StreamPtr pack_gzip(StreamPtr plain, const PackSettings& settings);       // RFC 1952, one member
StreamPtr pack_bzip2(StreamPtr plain, const PackSettings& settings);
StreamPtr pack_lzma(StreamPtr plain, const PackSettings& settings);        // 5 property bytes, then the data
StreamPtr pack_lzma_alone(StreamPtr plain, const PackSettings& settings);  // the 13-byte header in front
StreamPtr pack_xz(StreamPtr plain, const PackSettings& settings);          // .xz format 1.1.0
StreamPtr pack_zstd(StreamPtr plain, const PackSettings& settings);        // RFC 8878, one frame
StreamPtr pack_lz4(StreamPtr plain, const PackSettings& settings);         // LZ4 frame 1.6.2, one frame
StreamPtr pack_compress(StreamPtr plain, const PackSettings& settings);    // .Z, codes of up to 16 bits

}  // namespace operculum

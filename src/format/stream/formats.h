#pragma once

#include "container/format.h"

namespace operculum {

// The formats of single packed streams, each made in the file of its name; registry.cpp puts them in order.

Format gzip_format();
Format zlib_format();
Format bzip2_format();
Format xz_format();
Format lzma_format();
Format odd_lzma_format();
Format deflate_format();
Format zstd_format();
Format lz4_format();
Format lzo_format();
Format chunked_xz_format();
Format compress_format();

}  // namespace operculum

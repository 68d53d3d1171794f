#pragma once

#include "container/format.h"

namespace operculum {

// One line a format; the registry (registry.cpp) puts them in order. Each is made in the file of its name.

Format zip_format();
Format tar_format();
Format cpio_format();
Format ar_format();

Format ext_format();
Format squashfs_format();
Format erofs_format();

Format gzip_format();
Format zlib_format();
Format bzip2_format();
Format xz_format();
Format lzma_format();
Format zstd_format();
Format lz4_format();
Format compress_format();

}  // namespace operculum

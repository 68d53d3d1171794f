#include "format/formats.h"

namespace operculum {

const std::vector<Format>& formats() {
  static const std::vector<Format> all = {
      ext_format(), squashfs_format(), erofs_format(), zip_format(), tar_format(),  cpio_format(), ar_format(),       gzip_format(), bzip2_format(),
      xz_format(),  zstd_format(), lz4_format(),  compress_format(), lzma_format(), zlib_format(),
  };
  return all;
}

}  // namespace operculum

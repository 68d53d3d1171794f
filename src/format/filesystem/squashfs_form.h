#pragma once

#include "codec/block_pack.h"
#include "format/filesystem/squashfs_records.h"

namespace operculum::squash {

/// In what way an image is written: its block size, codec and flags, and the codec's settings.
struct Form {
  Super super;    ///< what of it is no place and no count
  Bytes options;  ///< the codec's, as they lie behind the superblock; empty: the usual ones
  BlockCodec codec = BlockCodec::zlib;
  BlockPacking packing, meta_packing;  ///< of data; of metadata

  bool has(Flag flag) const { return (super.flags & flag) != 0; }
};

/// Which codec a superblock's number stands for. Throws Unsupported.
BlockCodec codec_of(const Super& super);

/// The form of an image whose superblock and options are these.
Form form_of(const Super& super, Bytes options);

/// The usual form: blocks of 128 KiB, by a codec's name (gzip, xz, lzo, lz4, zstd, lzma; empty: xz). Throws
/// Unsupported.
Form usual_form(std::string_view codec, std::optional<int> level);

}  // namespace operculum::squash

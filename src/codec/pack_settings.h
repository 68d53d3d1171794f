#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/bytes.h"

namespace operculum {

/// The largest dictionary of LZMA and xz that is packed with, in bytes; it is that of their highest preset.
/// What an archive states may be anything, and an encoder takes eleven times as much memory as its
/// dictionary.
constexpr std::uint32_t kLargestDictionary = 64 << 20;

/// How bytes are packed. Each codec looks at what it knows; the defaults are the codec's usual ones.
struct PackSettings {
  std::optional<int> level;  ///< in the codec's own scale

  // deflate, zlib, gzip
  int memory_level = 8;               ///< zlib's memLevel
  int strategy = 0;                   ///< zlib's strategy
  bool whole_buffer = false;          ///< by libdeflate, which makes other bytes than zlib of the same level
  std::optional<Byte> zlib_flg = {};  ///< zlib: the FLG byte that the header shall have (RFC 1950, 2.2)

  // LZMA, xz, zstd
  std::optional<std::uint32_t> dictionary_size = {};  ///< bytes; xz and LZMA
  std::optional<int> window_log = {};                 ///< zstd
  bool extreme = false;                               ///< xz's slower variant of a level
  std::optional<bool> end_mark = {};  ///< LZMA: the data says where it ends; usual where no size is stated
  Bytes properties = {};              ///< LZMA: lc, lp, pb and the dictionary, 5 bytes
  std::vector<std::uint64_t> filters = {};  ///< xz: ids of filters in front of LZMA2

  // frames
  std::uint64_t block_size = 0;  ///< bytes of a block that can be decoded alone: xz; lz4: its largest
  int check = -1;                ///< xz: the check's number; -1: CRC-64
  bool checksum = true;          ///< zstd, lz4: over the content
  bool block_checksum = false;   ///< lz4: behind each block
  bool linked_blocks = true;     ///< lz4: blocks look back into those in front
  bool states_size = true;       ///< zstd, lz4, LZMA alone: the content's size stands in the header

  std::optional<std::uint64_t> plain_size = {};  ///< bytes; needed where the header states it
  unsigned threads = 0;  ///< 0: the plain encoder; else the one that cuts the content into jobs (zstd, xz)
};

/// "level 6", "level 9, memory 9", "level 6, by libdeflate": what tells settings apart, for a person.
std::string text_of(const PackSettings& settings);

}  // namespace operculum

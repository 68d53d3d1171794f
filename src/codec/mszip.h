#pragma once

#include <memory>

#include "base/bytes.h"

struct libdeflate_decompressor;  // libdeflate's handle

namespace operculum {

/// Decodes MSZIP ([MS-MCI]): blocks of up to 32 KiB, each a mark and a whole deflate stream (RFC 1951) whose
/// copies may reach into the 32 KiB in front of it.
class MszipDecoder {
 public:
  static constexpr std::size_t kBlock = 32768;  ///< unpacked bytes in every block but the last

  MszipDecoder();
  ~MszipDecoder();
  MszipDecoder(const MszipDecoder&) = delete;
  MszipDecoder& operator=(const MszipDecoder&) = delete;

  /// Decodes the next block, of `size` bytes; the view is valid until the next call. Throws Malformed.
  ByteView decode_block(ByteView packed, std::size_t size);

 private:
  libdeflate_decompressor* decompressor_;
  Bytes in_, out_;  // both begin with the history
  std::size_t history_ = 0;
};

}  // namespace operculum

#pragma once

#include <memory>

#include "base/bytes.h"

namespace operculum {

/// Decodes LZX, an LZ77 with canonical Huffman codes, as cabinets hold it ([MS-PATCH] 2, the LZX compressed
/// data format): frames of 32 KiB that each begin at a whole word and share window, codes and the last three
/// distances.
class LzxDecoder {
 public:
  static constexpr std::size_t kFrame = 32768;  ///< unpacked bytes in every frame but the last

  /// A window of 2^`window_bits` bytes, 15 to 21. Throws Malformed for other sizes.
  explicit LzxDecoder(unsigned window_bits);
  ~LzxDecoder();

  /// Decodes the next frame, of `size` bytes; the view is valid until the next call. Throws Malformed.
  ByteView decode_frame(ByteView packed, std::size_t size);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

/// Decodes one chunk as disk image archives hold it: it stands alone, its window is 2^`window_bits` bytes,
/// and block sizes and call translation are in the short form. Fills `out` or throws Malformed.
void decode_lzx_chunk(ByteView packed, ByteSpan out, unsigned window_bits);

}  // namespace operculum

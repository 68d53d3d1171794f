#pragma once

#include <memory>
#include <vector>

#include "base/bytes.h"

namespace operculum {

/// Packs LZX as cabinets hold it ([MS-PATCH] 2), with the steps that take the fewest bits; calls in machine
/// code are not translated.
class LzxEncoder {
 public:
  static constexpr std::size_t kFrame = 32768;       ///< plain bytes in every frame but the last
  static constexpr std::size_t kBlock = 4 * kFrame;  ///< plain bytes that are best given at once

  /// A window of 2^`window_bits` bytes, 15 to 21. Throws Malformed for other sizes.
  explicit LzxEncoder(unsigned window_bits);
  ~LzxEncoder();

  /// The next frames, of up to kBlock bytes; all frames but the very last are whole.
  std::vector<Bytes> pack(ByteView plain);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace operculum

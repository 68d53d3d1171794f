#pragma once

#include <memory>

#include "base/bytes.h"

namespace operculum {

/// Decodes Quantum, an LZ77 whose symbols are coded with adaptive models and an arithmetic coder, as cabinets
/// hold it: frames of 32 KiB that share window and models.
class QuantumDecoder {
 public:
  static constexpr std::size_t kFrame = 32768;  ///< unpacked bytes in every frame but the last

  /// A window of 2^`window_bits` bytes, 10 to 21. Throws Malformed for other sizes.
  explicit QuantumDecoder(unsigned window_bits);
  ~QuantumDecoder();

  /// Decodes the next frame, of `size` bytes; the view is valid until the next call. Throws Malformed.
  ByteView decode_frame(ByteView packed, std::size_t size);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace operculum

#pragma once

#include <optional>

#include "io/stream.h"

namespace operculum {

/// What decodes to bytes and to copies of bytes before them. In front of the first byte lie zeros.
class WindowStream : public Stream {
 public:
  std::size_t read(ByteSpan out) final;

 protected:
  /// Copies reach back `window` bytes, a power of two. `size` is the unpacked size in bytes, where known.
  WindowStream(std::size_t window, std::optional<std::uint64_t> size);

  /// Decodes at least one literal or copy; false at the end of the data.
  virtual bool next() = 0;
  void literal(Byte byte) { ring_[made_++ & mask_] = byte; }
  /// `distance` is 1 or more and at most the window.
  void copy(std::uint64_t distance, std::uint64_t length) {
    distance_ = distance;
    copies_ = length;
  }
  std::uint64_t made() const { return made_; }  ///< bytes decoded so far
  bool size_known() const { return size_known_; }

 private:
  void go_on_copying();

  Bytes ring_;
  std::size_t mask_;
  std::uint64_t made_ = 0, given_ = 0, size_;
  bool size_known_;
  std::uint64_t distance_ = 0, copies_ = 0;
};

}  // namespace operculum

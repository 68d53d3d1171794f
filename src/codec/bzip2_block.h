#pragma once

#include <bzlib.h>

#include <cstdint>
#include <future>

#include "base/bytes.h"

namespace operculum {

/// In front of a block, and at the end of a stream; 48 bits.
inline constexpr std::uint64_t kBzip2BlockMark = 0x314159265359, kBzip2EndMark = 0x177245385090;

/// A run of bits in some bytes, the highest bit of each byte first.
struct BitRun {
  Bytes bytes;
  std::size_t begin = 0, end = 0;  ///< in bits
};

/// `first` and `next`, which begins where the other ends: its bytes repeat the one in which that is.
BitRun joined(const BitRun& first, const BitRun& next);

/// One bzip2 block, made a stream of its own so that it can be decoded beside others. Its bytes are read by
/// one thread; decoding may begin on another.
class Bzip2Block {
 public:
  /// `bits` begins with the block's mark (48 bits) and checksum (32 bits); `level` is the digit of the
  /// stream's header. `packed_at` is the block's place in the packed data, in bytes. Throws std::bad_alloc.
  Bzip2Block(BitRun bits, char level, std::uint64_t packed_at);
  ~Bzip2Block();
  Bzip2Block(const Bzip2Block&) = delete;
  Bzip2Block& operator=(const Bzip2Block&) = delete;

  /// Decodes the first MiB on a thread of its own, where one can be had.
  void start();
  bool started() const { return ahead_.valid(); }

  /// The next bytes; 0 at the end of the block, and where it is damaged.
  std::size_t read(ByteSpan out);
  /// Whether the block ended other than it should; known once all was read.
  bool damaged() const { return state_ == State::damaged; }

  const BitRun& bits() const { return bits_; }
  std::uint64_t packed_at() const { return packed_at_; }
  std::uint32_t checksum() const { return checksum_; }  ///< as the block states it

 private:
  enum class State { decoding, ended, damaged };

  void decode_first();
  std::size_t decode(ByteSpan out);

  BitRun bits_;
  std::uint64_t packed_at_;
  std::uint32_t checksum_;
  Bytes stream_;  // the block behind a header of its own
  bz_stream library_{};
  State state_ = State::decoding;
  Bytes first_;
  std::size_t first_read_ = 0;
  std::future<void> ahead_;  // last: its thread uses the rest
};

}  // namespace operculum

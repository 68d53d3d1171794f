#pragma once

#include <optional>

#include "codec/bzip2_block.h"

namespace operculum {

/// Cuts one bzip2 stream into its blocks, which begin at any bit, by the marks in front of them. Chance makes
/// such a mark within a block once in 2^48 bits.
///
/// A stream is "BZh", a digit 1 to 9 (the largest block, in units of 100,000 bytes), blocks, and an end. A
/// block begins with 0x314159265359 and its checksum; the end is 0x177245385090, the checksum of all blocks'
/// checksums, and bits up to the next whole byte.
class Bzip2Splitter {
 public:
  enum class Fault { none, header, first_mark, block_too_long };

  /// Takes in bytes up to the end of a block or of the stream; returns how many.
  std::size_t feed(ByteView in);

  /// The block whose end was met by the last feed(), which is handed over.
  std::optional<BitRun> take_block();
  /// What there is of the block whose end was not met, at the end of the input.
  std::optional<BitRun> take_rest();
  std::uint64_t block_at() const { return block_at_; }  ///< of that block: bytes from the stream's begin

  bool ended() const { return end_bytes_ == kEndBytes; }
  Fault fault() const { return fault_; }
  char level() const { return level_; }
  std::uint32_t checksum() const {
    return static_cast<std::uint32_t>(window_ >> end_shift_);
  }  ///< REQUIRES ended()

 private:
  static constexpr unsigned kEndBytes = 4;  // that follow the byte in which the end's mark ends

  struct Mark {
    bool found = false, end = false;
    unsigned shift = 0;  // bits between its end and the last byte's end
  };

  void feed_header(Byte byte);
  std::size_t feed_blocks(ByteView in);
  Mark find_mark() const;
  void meet_mark(Mark mark);

  std::uint64_t window_ = 0;  // the last 8 bytes
  std::uint64_t fed_ = 0;     // bytes
  char level_ = '9';
  Bytes open_;                  // the bytes of the block whose end was not met yet
  std::size_t open_begin_ = 0;  // in bits: where the block begins in them
  std::optional<BitRun> block_;
  std::uint64_t block_at_ = 0;
  bool end_met_ = false;
  unsigned end_bytes_ = 0, end_shift_ = 0;
  Fault fault_ = Fault::none;
};

}  // namespace operculum

#pragma once

#include <memory>

#include "io/stream.h"

namespace operculum {

/// A buffer in front of a stream: look at the next bytes, then consume as many as were understood.
class InputBuffer {
 public:
  explicit InputBuffer(StreamPtr stream) : stream_(std::move(stream)) {}

  /// What is buffered, refilled when empty; empty only at the end of the input.
  ByteView view() {
    if (at_ == end_) ensure(1);
    return ByteView(buffer_.get(), capacity_).subspan(at_, end_ - at_);
  }
  /// What is buffered, after trying to have at least `count` bytes (fewer at the end of the input).
  ByteView ensure(std::size_t count) {
    if (end_ - at_ < count) refill(count);
    return ByteView(buffer_.get(), capacity_).subspan(at_, end_ - at_);
  }
  void consume(std::size_t count) {
    at_ += count;
    consumed_ += count;
  }
  std::uint64_t consumed() const { return consumed_; }  ///< bytes consumed and skipped so far
  std::uint64_t skip(std::uint64_t count);              ///< passes over up to `count` bytes; returns how many
  std::uint64_t skip_zeros();  ///< passes over zeros, holes without reading them; returns how many

  /// Up to out.size() bytes; large reads go past the buffer. 0 only at the end.
  std::size_t read(ByteSpan out);

 private:
  void refill(std::size_t count);

  StreamPtr stream_;
  std::unique_ptr<Byte[]> buffer_;  // not cleared: short inputs need a part of it
  std::size_t capacity_ = 0;
  std::size_t at_ = 0, end_ = 0;
  std::uint64_t consumed_ = 0;
};

}  // namespace operculum

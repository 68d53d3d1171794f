#pragma once

#include "io/stream.h"

namespace operculum {

/// Counts the bytes that are read of a stream.
class CountedStream final : public Stream {
 public:
  CountedStream(StreamPtr inner, std::uint64_t& count) : inner_(std::move(inner)), count_(count) {}
  std::size_t read(ByteSpan out) override {
    std::size_t count = inner_->read(out);
    count_ += count;
    return count;
  }

 private:
  StreamPtr inner_;
  std::uint64_t& count_;
};

}  // namespace operculum

#pragma once

#include "io/stream.h"

namespace operculum {

/// Common to the encoders: pulls plain bytes and yields packed ones.
class PackStream : public Stream {
 public:
  explicit PackStream(StreamPtr plain) : plain_(std::move(plain)), buffer_(kBuffer) {}
  std::size_t read(ByteSpan out) final;

 protected:
  struct Step {
    std::size_t consumed, produced;
    bool ended;
  };
  /// Packs some of `in`; `last` says that nothing follows it. Must produce, consume or end.
  virtual Step pack(ByteView in, bool last, ByteSpan out) = 0;

 private:
  static constexpr std::size_t kBuffer = 128 * 1024;  // bytes

  StreamPtr plain_;
  Bytes buffer_;
  std::size_t at_ = 0, end_ = 0;
  bool plain_ended_ = false, ended_ = false;
};

}  // namespace operculum

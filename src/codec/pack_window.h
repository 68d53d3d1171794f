#pragma once

#include <algorithm>
#include <memory>

#include "codec/match_finder.h"
#include "io/stream.h"

namespace operculum {

/// Common to the encoders of the LZ77 kind that are written here: takes the plain bytes block by block, with
/// what lies in front of each within the window still there. Memory is bounded by the window and the block.
class WindowPacker : public Stream {
 public:
  /// Sizes in bytes.
  WindowPacker(StreamPtr plain, std::size_t window, std::size_t block, const MatchFinder::Reach& reach)
      : plain_(std::move(plain)),
        window_(window),
        block_(block),
        reach_(reach),
        buffer_(window + std::max(window, kAtOnce) + block) {}
  std::size_t read(ByteSpan out) final;

 protected:
  /// The packed form of the bytes from `begin` up to `end` of `buffer`; `last` says that none follow, also
  /// when there are none at all.
  virtual Bytes pack_block(ByteView buffer, std::size_t begin, std::size_t end, MatchFinder& finder,
                           bool last) = 0;

 private:
  static constexpr std::size_t kAtOnce = 1 << 20;  // bytes packed before the window is moved to the front

  void next_block();
  void slide();

  StreamPtr plain_;
  std::size_t window_, block_;
  MatchFinder::Reach reach_;
  Bytes buffer_, packed_;
  std::unique_ptr<MatchFinder> finder_;
  std::size_t begin_ = 0, end_ = 0;  // of what was read and is not packed yet
  std::size_t handed_out_ = 0;       // of packed_
  bool plain_ended_ = false, ended_ = false;
};

}  // namespace operculum

#include "codec/pack_window.h"

#include <algorithm>

namespace operculum {

std::size_t WindowPacker::read(ByteSpan out) {
  std::size_t done = 0;
  while (done < out.size()) {
    if (handed_out_ == packed_.size()) {
      if (ended_) break;
      next_block();
      continue;
    }
    std::size_t count = std::min(out.size() - done, packed_.size() - handed_out_);
    std::copy_n(packed_.begin() + static_cast<std::ptrdiff_t>(handed_out_), count,
                out.begin() + static_cast<std::ptrdiff_t>(done));
    handed_out_ += count;
    done += count;
  }
  return done;
}

/// One byte more than a block is read, to know whether it is the last.
void WindowPacker::next_block() {
  if (begin_ + block_ + 1 > buffer_.size()) slide();
  while (!plain_ended_ && end_ - begin_ <= block_) {
    std::size_t wanted = std::min(begin_ + block_ + 1, buffer_.size()) - end_;
    std::size_t count = plain_->read(ByteSpan(buffer_).subspan(end_, wanted));
    plain_ended_ = count == 0;
    end_ += count;
  }
  if (!finder_) finder_ = std::make_unique<MatchFinder>(buffer_, reach_);
  std::size_t stop = std::min(end_, begin_ + block_);
  ended_ = plain_ended_ && stop == end_;
  packed_ = pack_block(buffer_, begin_, stop, *finder_, ended_);
  handed_out_ = 0;
  begin_ = stop;
}

void WindowPacker::slide() {
  std::size_t kept = begin_ - std::min(begin_, window_);
  std::copy(buffer_.begin() + static_cast<std::ptrdiff_t>(kept),
            buffer_.begin() + static_cast<std::ptrdiff_t>(end_), buffer_.begin());
  begin_ -= kept;
  end_ -= kept;
  finder_ = std::make_unique<MatchFinder>(buffer_, reach_);
  for (std::size_t at = 0; at < begin_; ++at) finder_->pass(at, begin_);
}

}  // namespace operculum

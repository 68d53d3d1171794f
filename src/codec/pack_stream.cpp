#include "codec/pack_stream.h"

namespace operculum {

std::size_t PackStream::read(ByteSpan out) {
  std::size_t done = 0;
  while (done < out.size() && !ended_) {
    if (at_ == end_ && !plain_ended_) {
      at_ = 0;
      end_ = plain_->read(buffer_);
      plain_ended_ = end_ == 0;
    }
    Step step = pack(ByteView(buffer_).subspan(at_, end_ - at_), plain_ended_, out.subspan(done));
    at_ += step.consumed;
    done += step.produced;
    ended_ = step.ended;
  }
  return done;
}

}  // namespace operculum

#include "io/input_buffer.h"

#include <algorithm>
#include <cstring>

namespace operculum {
namespace {
constexpr std::size_t kInputBytes = 128 * 1024;
}

void InputBuffer::refill(std::size_t count) {
  std::size_t kept = end_ - at_;
  if (capacity_ < count) {
    capacity_ = std::max(kInputBytes, count);
    auto larger = std::make_unique_for_overwrite<Byte[]>(capacity_);
    if (kept > 0) std::memcpy(larger.get(), buffer_.get() + at_, kept);
    buffer_ = std::move(larger);
  } else if (at_ > 0) {
    std::memmove(buffer_.get(), buffer_.get() + at_, kept);
  }
  at_ = 0;
  end_ = kept;
  while (end_ - at_ < count) {
    std::size_t got = stream_->read({buffer_.get() + end_, capacity_ - end_});
    if (got == 0) break;
    end_ += got;
  }
}

std::uint64_t InputBuffer::skip(std::uint64_t count) {
  auto buffered = static_cast<std::size_t>(std::min<std::uint64_t>(count, end_ - at_));
  consume(buffered);
  std::uint64_t beyond = stream_->skip(count - buffered);
  consumed_ += beyond;
  return buffered + beyond;
}

std::uint64_t InputBuffer::skip_zeros() {
  std::uint64_t begin = consumed_;
  for (;;) {
    if (at_ == end_) consumed_ += stream_->skip_hole();
    ByteView there = view();
    auto other = std::find_if(there.begin(), there.end(), [](Byte b) { return b != 0; });
    consume(static_cast<std::size_t>(other - there.begin()));
    if (there.empty() || other != there.end()) return consumed_ - begin;
  }
}

std::size_t InputBuffer::read(ByteSpan out) {
  if (at_ == end_ && out.size() >= kInputBytes) {
    std::size_t got = stream_->read(out);
    consumed_ += got;
    return got;
  }
  ByteView there = view();
  std::size_t count = std::min(out.size(), there.size());
  std::copy_n(there.begin(), count, out.begin());
  consume(count);
  return count;
}

}  // namespace operculum

#include "io/byte_pipe.h"

#include <algorithm>
#include <utility>

namespace operculum {

void BytePipe::send(ByteView bytes) {
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [this] { return unread_ < kPipeBytes || abandoned_; });
  if (abandoned_) throw NobodyReads();
  waiting_.insert(waiting_.end(), bytes.begin(), bytes.end());
  unread_ += bytes.size();
  lock.unlock();
  changed_.notify_all();
}

void BytePipe::end(std::exception_ptr error) {
  {
    std::lock_guard lock(mutex_);
    ended_ = true;
    error_ = std::move(error);
  }
  changed_.notify_all();
}

void BytePipe::abandon() {
  {
    std::lock_guard lock(mutex_);
    abandoned_ = true;
  }
  changed_.notify_all();
}

bool BytePipe::ends_within(std::size_t count) {
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [this, count] { return ended_ || unread_ > count; });
  if (unread_ > count) return false;
  if (error_) std::rethrow_exception(error_);
  return true;
}

std::size_t BytePipe::read(ByteSpan out) {
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [this] { return unread_ > 0 || ended_; });
  if (unread_ == 0 && error_) std::rethrow_exception(error_);
  if (at_ == current_.size()) {
    current_.clear();
    std::swap(current_, waiting_);
    at_ = 0;
  }
  std::size_t count = std::min(out.size(), current_.size() - at_);
  std::copy_n(current_.begin() + static_cast<std::ptrdiff_t>(at_), count, out.begin());
  at_ += count;
  unread_ -= count;
  lock.unlock();
  changed_.notify_all();
  return count;
}

}  // namespace operculum

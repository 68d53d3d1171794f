#include "io/byte_pipe.h"

#include <algorithm>
#include <utility>

namespace operculum {

void BytePipe::send(ByteView bytes) {
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [this] { return waiting_.size() - read_ < kPipeBytes || abandoned_; });
  if (abandoned_) throw NobodyReads();
  waiting_.erase(waiting_.begin(), waiting_.begin() + static_cast<std::ptrdiff_t>(std::exchange(read_, 0)));
  waiting_.insert(waiting_.end(), bytes.begin(), bytes.end());
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
  changed_.wait(lock, [this, count] { return ended_ || waiting_.size() - read_ > count; });
  if (!ended_ || waiting_.size() - read_ > count) return false;
  if (error_) std::rethrow_exception(error_);
  return true;
}

std::size_t BytePipe::read(ByteSpan out) {
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [this] { return read_ < waiting_.size() || ended_; });
  std::size_t count = std::min(out.size(), waiting_.size() - read_);
  if (count == 0 && error_) std::rethrow_exception(error_);
  std::copy_n(waiting_.begin() + static_cast<std::ptrdiff_t>(read_), count, out.begin());
  read_ += count;
  lock.unlock();
  changed_.notify_all();
  return count;
}

}  // namespace operculum

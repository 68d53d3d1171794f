#include "base/background_sum.h"

#include <algorithm>
#include <condition_variable>
#include <mutex>
#include <system_error>
#include <thread>

namespace operculum {
namespace {

constexpr std::uint64_t kAlone = 4 << 20;  // bytes that do not pay for a thread
constexpr std::size_t kBlock = 256 << 10;  // bytes handed over at once
constexpr std::uint64_t kNever = UINT64_MAX;

class BackgroundSum final : public Sum {
 public:
  explicit BackgroundSum(std::unique_ptr<Sum> sum) : sum_(std::move(sum)) {}
  ~BackgroundSum() override { stop(); }

  void add(ByteView bytes) override {
    if (!thread_.joinable()) {
      sum_->add(bytes);
      if (left_alone_ != kNever) left_alone_ -= std::min<std::uint64_t>(left_alone_, bytes.size());
      if (left_alone_ == 0) start();
      return;
    }
    while (!bytes.empty()) {
      std::size_t count = std::min(bytes.size(), kBlock - filling_.size());
      filling_.insert(filling_.end(), bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(count));
      bytes = bytes.subspan(count);
      if (filling_.size() == kBlock) hand_over();
    }
  }

  Bytes finish() override {
    if (thread_.joinable()) hand_over();
    stop();
    return sum_->finish();
  }

 private:
  void start() {
    filling_.reserve(kBlock);
    working_.reserve(kBlock);
    try {
      thread_ = std::thread([this] { work(); });
    } catch (const std::system_error&) {
      left_alone_ = kNever;  // there are no more threads to be had
    }
  }

  /// Gives what was filled to the thread, once that is done with what it had.
  void hand_over() {
    std::unique_lock lock(mutex_);
    turned_.wait(lock, [this] { return working_.empty(); });
    std::swap(filling_, working_);
    turned_.notify_all();
  }

  void work() {
    std::unique_lock lock(mutex_);
    for (;;) {
      turned_.wait(lock, [this] { return !working_.empty() || stopped_; });
      if (working_.empty()) return;
      lock.unlock();
      sum_->add(working_);
      lock.lock();
      working_.clear();
      turned_.notify_all();
    }
  }

  void stop() {
    if (!thread_.joinable()) return;
    {
      std::lock_guard lock(mutex_);
      stopped_ = true;
    }
    turned_.notify_all();
    thread_.join();
  }

  std::unique_ptr<Sum> sum_;  // of the thread, while there is one
  std::uint64_t left_alone_ = kAlone;
  std::mutex mutex_;  // guards `working_` while it is empty, and `stopped_`
  std::condition_variable turned_;
  Bytes filling_, working_;
  bool stopped_ = false;
  std::thread thread_;
};

}  // namespace

std::unique_ptr<Sum> make_background_sum(std::unique_ptr<Sum> sum) {
  return std::make_unique<BackgroundSum>(std::move(sum));
}

}  // namespace operculum

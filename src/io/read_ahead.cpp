#include "io/read_ahead.h"

#include <algorithm>
#include <array>
#include <condition_variable>
#include <cstring>
#include <exception>
#include <mutex>
#include <thread>
#include <utility>

namespace operculum {
namespace {

constexpr std::size_t kSlots = 4;
constexpr std::size_t kSlotBytes = 512 * 1024;

class ReadAhead final : public ReadAheadStream {
 public:
  explicit ReadAhead(StreamPtr inner) : inner_(std::move(inner)), worker_([this] { fill(); }) {}
  ~ReadAhead() override {
    {
      std::lock_guard lock(mutex_);
      stopped_ = true;
    }
    changed_.notify_all();
    worker_.join();
  }

  Run next_run() override {
    if (!next_slot()) return {};
    at_ = current_.bytes.size();
    return {std::exchange(current_.hole, 0), current_.bytes};
  }

  std::uint64_t skip_hole() override {
    if (current_.hole == 0 && at_ == current_.bytes.size() && !next_slot()) return 0;
    return std::exchange(current_.hole, 0);
  }

  std::size_t read(ByteSpan out) override {
    if (current_.hole == 0 && at_ == current_.bytes.size() && !next_slot()) return 0;
    if (current_.hole > 0) {
      auto zeros = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), current_.hole));
      std::memset(out.data(), 0, zeros);
      current_.hole -= zeros;
      return zeros;
    }
    std::size_t count = std::min(out.size(), current_.bytes.size() - at_);
    std::memcpy(out.data(), current_.bytes.data() + at_, count);
    at_ += count;
    return count;
  }

 private:
  /// A hole, and the bytes behind it.
  struct Slot {
    std::uint64_t hole = 0;
    Bytes bytes;
  };

  /// Takes the next filled block; false at the end. Rethrows what ended the inner stream.
  bool next_slot() {
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [this] { return filled_ > 0 || ended_; });
    if (filled_ == 0) {
      if (error_) std::rethrow_exception(error_);
      return false;
    }
    std::swap(current_, slots_[taken_ % kSlots]);
    ++taken_;
    --filled_;
    at_ = 0;
    lock.unlock();
    changed_.notify_all();
    return true;
  }

  void fill() {
    Slot slot;
    std::uint64_t next_hole = 0;
    std::exception_ptr error;
    for (bool more = true; more;) {
      slot.bytes.resize(kSlotBytes);
      slot.hole = std::exchange(next_hole, 0);
      std::size_t count = 0;
      try {
        while (count < slot.bytes.size()) {
          std::uint64_t hole = inner_->skip_hole();
          if (hole > 0 && count > 0) {
            next_hole = hole;
            break;
          }
          slot.hole += hole;
          std::size_t got = inner_->read(ByteSpan(slot.bytes).subspan(count));
          if (got == 0) break;
          count += got;
        }
        more = count == slot.bytes.size() || next_hole > 0;
      } catch (...) {
        error = std::current_exception();
        more = false;
      }
      slot.bytes.resize(count);
      std::unique_lock lock(mutex_);
      changed_.wait(lock, [this] { return filled_ < kSlots || stopped_; });
      if (stopped_) return;
      if (count > 0 || slot.hole > 0) std::swap(slots_[(taken_ + filled_++) % kSlots], slot);
      ended_ = !more;
      error_ = error;
      lock.unlock();
      changed_.notify_all();
    }
  }

  StreamPtr inner_;
  std::mutex mutex_;  // guards all down to error_
  std::condition_variable changed_;
  std::array<Slot, kSlots> slots_;
  std::size_t taken_ = 0, filled_ = 0;
  bool ended_ = false, stopped_ = false;
  std::exception_ptr error_;
  Slot current_;  // the reader's own
  std::size_t at_ = 0;
  std::thread worker_;  // last: starts when the rest is made
};

}  // namespace

std::unique_ptr<ReadAheadStream> make_read_ahead(StreamPtr inner) {
  return std::make_unique<ReadAhead>(std::move(inner));
}

}  // namespace operculum

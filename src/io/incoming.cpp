#include "io/incoming.h"

#include <fmt/format.h>

#include <algorithm>
#include <mutex>

#include "base/error.h"

namespace operculum {
namespace {

/// Where the bytes come from, and the front that was read already.
class Inflow {
 public:
  Inflow(StreamPtr origin, std::string what, std::function<void(std::uint64_t)> came)
      : origin_(std::move(origin)), what_(std::move(what)), came_(std::move(came)) {}

  void begin_again() {
    std::lock_guard lock(mutex_);
    if (gone_) fail();
  }

  std::size_t read(std::uint64_t at, ByteSpan out) {
    std::lock_guard lock(mutex_);
    if (at < front_.size()) {
      std::size_t count = std::min(out.size(), front_.size() - static_cast<std::size_t>(at));
      std::copy_n(front_.begin() + static_cast<std::ptrdiff_t>(at), count, out.begin());
      return count;
    }
    if (at != total_) fail();
    std::size_t count = origin_->read(out);
    total_ += count;
    came_(count);
    if (!gone_) keep(out.first(count));
    return count;
  }

 private:
  [[noreturn]] void fail() const {
    throw Error(ErrorKind::io, fmt::format("{} can be read once only, and this needs it twice; save it to a "
                                           "file and name that",
                                           what_));
  }

  void keep(ByteView bytes) {
    gone_ = front_.size() + bytes.size() > kLookAgain;
    if (gone_) {
      Bytes().swap(front_);
    } else {
      front_.insert(front_.end(), bytes.begin(), bytes.end());
    }
  }

  std::mutex mutex_;
  StreamPtr origin_;
  std::string what_;
  std::function<void(std::uint64_t)> came_;
  std::uint64_t total_ = 0;  // bytes that came
  Bytes front_;
  bool gone_ = false;  // the front, and with it the way back
};

class InflowStream final : public Stream {
 public:
  explicit InflowStream(std::shared_ptr<Inflow> inflow) : inflow_(std::move(inflow)) {}
  std::size_t read(ByteSpan out) override {
    std::size_t count = inflow_->read(at_, out);
    at_ += count;
    return count;
  }

 private:
  std::shared_ptr<Inflow> inflow_;
  std::uint64_t at_ = 0;
};

class Incoming final : public Content {
 public:
  explicit Incoming(std::shared_ptr<Inflow> inflow) : inflow_(std::move(inflow)) {}
  StreamPtr stream() const override {
    inflow_->begin_again();
    return std::make_unique<InflowStream>(inflow_);
  }

 private:
  std::shared_ptr<Inflow> inflow_;
};

}  // namespace

ContentPtr make_incoming(StreamPtr origin, std::string what, std::function<void(std::uint64_t)> came) {
  return std::make_shared<Incoming>(
      std::make_shared<Inflow>(std::move(origin), std::move(what), std::move(came)));
}

}  // namespace operculum

#include "io/solid_stream.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"

namespace operculum {
namespace {

constexpr std::uint64_t kPassBlock = 64 * 1024;

}  // namespace

class SolidStream::PartStream final : public Stream {
 public:
  PartStream(std::shared_ptr<SolidStream> whole, std::uint64_t offset, std::uint64_t length)
      : whole_(std::move(whole)), offset_(offset), left_(length) {}

  ~PartStream() override {
    if (reader_.stream) whole_->keep(std::move(reader_));
  }
  PartStream(const PartStream&) = delete;
  PartStream& operator=(const PartStream&) = delete;

  std::uint64_t skip(std::uint64_t count) override {
    count = std::min(count, left_);
    offset_ += count;
    left_ -= count;
    return count;
  }

  std::size_t read(ByteSpan out) override {
    if (left_ == 0) return 0;
    out = out.first(static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), left_)));
    if (!reader_.stream) reader_ = whole_->reader_for(offset_);
    std::size_t count = guarded([&] {
      pass_over();
      std::size_t got = reader_.stream->read(out);
      if (got == 0) fail_cut();
      return got;
    });
    reader_.at += count;
    offset_ += count;
    left_ -= count;
    return count;
  }

 private:
  /// Reads what lies in front, so that it is known how far the data is sound.
  void pass_over() {
    if (reader_.at == offset_) return;
    Bytes passed(static_cast<std::size_t>(std::min<std::uint64_t>(kPassBlock, offset_ - reader_.at)));
    while (reader_.at < offset_) {
      auto wanted = static_cast<std::size_t>(std::min<std::uint64_t>(passed.size(), offset_ - reader_.at));
      std::size_t got = reader_.stream->read(ByteSpan(passed).first(wanted));
      if (got == 0) fail_cut();
      reader_.at += got;
    }
  }

  template <typename Work>
  std::size_t guarded(Work work) {
    try {
      return work();
    } catch (const std::exception&) {
      reader_.stream.reset();
      whole_->broken(reader_.at, std::current_exception());
      throw;
    }
  }

  [[noreturn]] void fail_cut() const {
    throw CutShort(fmt::format("the packed data around it ends after {} bytes; {} more are missing here",
                               reader_.at, offset_ + left_ - reader_.at));
  }

  std::shared_ptr<SolidStream> whole_;
  std::uint64_t offset_, left_;
  Reader reader_;
};

ContentPtr SolidStream::part(std::uint64_t offset, std::uint64_t length) {
  return make_content([self = shared_from_this(), offset, length]() -> StreamPtr {
    return std::make_unique<PartStream>(self, offset, length);
  });
}

SolidStream::Reader SolidStream::reader_for(std::uint64_t offset) {
  std::unique_lock lock(mutex_);
  if (offset >= broken_at_) std::rethrow_exception(error_);
  auto best = readers_.end();
  for (auto it = readers_.begin(); it != readers_.end(); ++it) {
    if (it->at <= offset && (best == readers_.end() || it->at > best->at)) best = it;
  }
  if (best != readers_.end()) {
    Reader reader = std::move(*best);
    readers_.erase(best);
    return reader;
  }
  lock.unlock();
  return {open_(), 0};
}

void SolidStream::keep(Reader reader) {
  std::lock_guard lock(mutex_);
  if (readers_.size() == kKept) readers_.erase(readers_.begin());
  readers_.push_back(std::move(reader));
}

void SolidStream::broken(std::uint64_t at, std::exception_ptr error) {
  std::lock_guard lock(mutex_);
  if (at >= broken_at_) return;
  broken_at_ = at;
  error_ = std::move(error);
}

}  // namespace operculum

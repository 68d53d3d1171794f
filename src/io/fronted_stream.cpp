#include "io/fronted_stream.h"

#include <algorithm>
#include <mutex>

namespace operculum {
namespace {

class FrontedStream final : public Stream {
 public:
  FrontedStream(Bytes front, StreamPtr rest) : front_(std::move(front)), rest_(std::move(rest)) {}
  std::size_t read(ByteSpan out) override {
    if (at_ == front_.size()) return rest_->read(out);
    std::size_t count = std::min(out.size(), front_.size() - at_);
    std::copy_n(front_.begin() + static_cast<std::ptrdiff_t>(at_), count, out.begin());
    at_ += count;
    if (at_ == front_.size()) Bytes().swap(front_), at_ = 0;
    return count;
  }
  std::uint64_t skip_hole() override { return at_ == front_.size() ? rest_->skip_hole() : 0; }
  std::uint64_t skip(std::uint64_t count) override {
    std::uint64_t done = std::min<std::uint64_t>(count, front_.size() - at_);
    at_ += static_cast<std::size_t>(done);
    return done < count ? done + rest_->skip(count - done) : done;
  }

 private:
  Bytes front_;
  StreamPtr rest_;
  std::size_t at_ = 0;
};

class ResumedContent final : public Content {
 public:
  ResumedContent(ContentPtr inner, Bytes front, StreamPtr rest)
      : inner_(std::move(inner)), front_(std::move(front)), rest_(std::move(rest)) {}
  StreamPtr stream() const override {
    std::lock_guard lock(mutex_);
    return rest_ ? make_fronted(std::move(front_), std::move(rest_)) : inner_->stream();
  }
  SourcePtr source() const override { return inner_->source(); }

 private:
  ContentPtr inner_;
  mutable std::mutex mutex_;  // guards what follows: the first stream takes it
  mutable Bytes front_;
  mutable StreamPtr rest_;
};

}  // namespace

StreamPtr make_fronted(Bytes front, StreamPtr rest) {
  return std::make_unique<FrontedStream>(std::move(front), std::move(rest));
}

LookedAt look_at_front(ContentPtr content, std::size_t reach) {
  LookedAt looked;
  StreamPtr stream = content->stream();
  looked.front.resize(reach);
  looked.front.resize(read_fully(*stream, looked.front));
  looked.complete = looked.front.size() < reach;
  looked.content = std::make_shared<ResumedContent>(std::move(content), looked.front, std::move(stream));
  return looked;
}

}  // namespace operculum

#include "io/stream.h"

#include <algorithm>

#include "base/error.h"
#include "base/units.h"

namespace operculum {
namespace {

constexpr std::size_t kStreamBlock = 64 * 1024;

class SourceStream final : public Stream {
 public:
  SourceStream(SourcePtr source, std::uint64_t begin, std::uint64_t end)
      : source_(std::move(source)), at_(begin), end_(end) {}
  std::size_t read(ByteSpan out) override {
    auto wanted = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), end_ - at_));
    std::size_t count = wanted == 0 ? 0 : source_->read_at(at_, out.first(wanted));
    at_ += count;
    return count;
  }
  std::uint64_t skip(std::uint64_t count) override {
    count = std::min(count, end_ - at_);
    at_ += count;
    return count;
  }
  std::uint64_t skip_hole() override {
    std::uint64_t hole = at_ < end_ ? std::min(source_->hole_at(at_), end_ - at_) : 0;
    at_ += hole;
    return hole;
  }

 private:
  SourcePtr source_;
  std::uint64_t at_, end_;
};

class BorrowedStream final : public Stream {
 public:
  explicit BorrowedStream(Stream& inner) : inner_(inner) {}
  std::size_t read(ByteSpan out) override { return inner_.read(out); }
  std::uint64_t skip(std::uint64_t count) override { return inner_.skip(count); }
  std::uint64_t skip_hole() override { return inner_.skip_hole(); }

 private:
  Stream& inner_;
};

class SourceContent final : public Content {
 public:
  explicit SourceContent(SourcePtr source) : source_(std::move(source)) {}
  StreamPtr stream() const override { return make_source_stream(source_); }
  SourcePtr source() const override { return source_; }

 private:
  SourcePtr source_;
};

class StreamContent final : public Content {
 public:
  explicit StreamContent(std::function<StreamPtr()> open_stream) : open_stream_(std::move(open_stream)) {}
  StreamPtr stream() const override { return open_stream_(); }

 private:
  std::function<StreamPtr()> open_stream_;
};

}  // namespace

std::uint64_t Stream::skip(std::uint64_t count) {
  Bytes waste(static_cast<std::size_t>(std::min<std::uint64_t>(count, kStreamBlock)));
  std::uint64_t done = 0;
  while (done < count) {
    auto wanted = static_cast<std::size_t>(std::min<std::uint64_t>(count - done, waste.size()));
    std::size_t got = read(ByteSpan(waste).first(wanted));
    if (got == 0) break;
    done += got;
  }
  return done;
}

std::size_t read_fully(Stream& stream, ByteSpan out) {
  std::size_t done = 0;
  while (done < out.size()) {
    std::size_t got = stream.read(out.subspan(done));
    if (got == 0) break;
    done += got;
  }
  return done;
}

Bytes read_all(Stream& stream, std::uint64_t limit) {
  Bytes bytes;
  for (;;) {
    std::size_t old = bytes.size();
    bytes.resize(old + std::clamp<std::size_t>(old, kStreamBlock, 64 * kStreamBlock));
    std::size_t got = stream.read(ByteSpan(bytes).subspan(old));
    bytes.resize(old + got);
    if (got == 0) return bytes;
    if (bytes.size() > limit)
      throw LimitExceeded("the data is larger than the " + human_size(limit) + " expected here");
  }
}

StreamPtr make_borrowed(Stream& inner) {
  return std::make_unique<BorrowedStream>(inner);
}

StreamPtr make_source_stream(SourcePtr source, std::uint64_t offset, std::uint64_t length) {
  std::uint64_t begin = std::min(offset, source->size());
  std::uint64_t end = begin + std::min(length, source->size() - begin);
  return std::make_unique<SourceStream>(std::move(source), begin, end);
}

ContentPtr make_content(SourcePtr source) {
  return std::make_shared<SourceContent>(std::move(source));
}

ContentPtr make_content(std::function<StreamPtr()> open_stream) {
  return std::make_shared<StreamContent>(std::move(open_stream));
}

}  // namespace operculum

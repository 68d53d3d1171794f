#include "io/http_source.h"

#include <algorithm>
#include <list>
#include <mutex>
#include <thread>
#include <unordered_map>
#include <utility>

#include "io/byte_pipe.h"

namespace operculum {
namespace {

constexpr std::uint64_t kHttpBlock = 64 << 10;  // bytes; what one look at an index or a header costs at most
constexpr std::uint64_t kMostAhead = 4 << 20;   // bytes of one request
constexpr std::size_t kKeptBlocks = 512;        // 32 MiB

class HttpSource final : public Source {
 public:
  HttpSource(std::unique_ptr<HttpClient> client, std::uint64_t size, const Bytes& front)
      : client_(std::move(client)), size_(size) {
    next_ = front.size();
    keep(0, front);
  }

  std::uint64_t size() const override { return size_; }

  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    if (offset >= size_) return 0;
    auto wanted = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), size_ - offset));
    std::lock_guard lock(mutex_);
    for (std::size_t done = 0; done < wanted;) {
      std::uint64_t at = offset + done;
      const Bytes& block = block_at(at / kHttpBlock, offset + wanted);
      auto within = static_cast<std::size_t>(at % kHttpBlock);
      std::size_t count = std::min(wanted - done, block.size() - within);
      std::copy_n(block.begin() + static_cast<std::ptrdiff_t>(within), count,
                  out.begin() + static_cast<std::ptrdiff_t>(done));
      done += count;
    }
    return wanted;
  }

 private:
  using Kept = std::list<std::pair<std::uint64_t, Bytes>>;

  const Bytes& block_at(std::uint64_t number, std::uint64_t wanted_end) const {
    auto found = places_.find(number);
    if (found == places_.end()) {
      fetch(number, wanted_end);
      found = places_.find(number);
    }
    kept_.splice(kept_.begin(), kept_, found->second);
    return found->second->second;
  }

  /// Gets a block and those behind it that are wanted and not there; more of them when reading goes on where
  /// it stopped.
  void fetch(std::uint64_t number, std::uint64_t wanted_end) const {
    std::uint64_t begin = number * kHttpBlock;
    ahead_ = begin == next_ ? std::min(kMostAhead, ahead_ * 2) : kHttpBlock;
    std::uint64_t end = std::max(wanted_end, begin + ahead_);
    end = std::min({size_, begin + kMostAhead, (end + kHttpBlock - 1) / kHttpBlock * kHttpBlock});
    for (std::uint64_t next = number + 1; next * kHttpBlock < end; ++next) {
      if (places_.contains(next)) end = next * kHttpBlock;
    }
    Bytes bytes;
    bytes.reserve(static_cast<std::size_t>(end - begin));
    client_->range(begin, end - begin,
                   [&](ByteView part) { bytes.insert(bytes.end(), part.begin(), part.end()); });
    next_ = end;
    keep(number, bytes);
  }

  void keep(std::uint64_t number, const Bytes& bytes) const {
    for (std::size_t at = 0; at < bytes.size(); at += kHttpBlock, ++number) {
      auto begin = bytes.begin() + static_cast<std::ptrdiff_t>(at);
      auto end =
          bytes.begin() + static_cast<std::ptrdiff_t>(std::min<std::uint64_t>(bytes.size(), at + kHttpBlock));
      kept_.emplace_front(number, Bytes(begin, end));
      places_[number] = kept_.begin();
    }
    while (kept_.size() > kKeptBlocks) {
      places_.erase(kept_.back().first);
      kept_.pop_back();
    }
  }

  std::unique_ptr<HttpClient> client_;
  std::uint64_t size_;
  mutable std::mutex mutex_;  // guards the client and what follows
  mutable Kept kept_;         // the most recent first
  mutable std::unordered_map<std::uint64_t, Kept::iterator> places_;
  mutable std::uint64_t next_ = 0;            // where the last request ended
  mutable std::uint64_t ahead_ = kHttpBlock;  // bytes that the next request in order asks for
};

/// The first request of a file, on a thread of its own: a server that sends no parts answers it with all of
/// the file, however long that is.
class FirstRequest final : public Stream {
 public:
  explicit FirstRequest(const std::string& url, HttpOptions options)
      : client_(std::make_unique<HttpClient>(url, std::move(options))), thread_([this] { run(); }) {}
  ~FirstRequest() override {
    pipe_.abandon();
    if (thread_.joinable()) thread_.join();
  }

  std::size_t read(ByteSpan out) override { return pipe_.read(out); }

  /// The file, once the answer has ended within a block: all of it, or its front and the way to the rest.
  /// Nothing where the server goes on sending.
  SourcePtr source() {
    if (!pipe_.ends_within(kHttpBlock)) return nullptr;
    thread_.join();
    Bytes front = read_all(*this, kHttpBlock);
    if (!head_.ranges || *head_.size <= kHttpBlock) return make_memory_source(std::move(front));
    return std::make_shared<HttpSource>(std::move(client_), *head_.size, front);
  }

 private:
  void run() {
    try {
      head_ = client_->begin(kHttpBlock, [this](ByteView bytes) { pipe_.send(bytes); });
      pipe_.end();
    } catch (const BytePipe::NobodyReads&) {
      return;
    } catch (...) {
      pipe_.end(std::current_exception());
    }
  }

  std::unique_ptr<HttpClient> client_;
  HttpHead head_;  // complete when the pipe has ended
  BytePipe pipe_;
  std::thread thread_;  // last: starts when the rest is made
};

}  // namespace

FromServer open_url_once(const std::string& url, HttpOptions options) {
  auto first = std::make_unique<FirstRequest>(url, std::move(options));
  if (SourcePtr source = first->source()) return {std::move(source), nullptr};
  return {nullptr, std::move(first)};
}

SourcePtr open_url(const std::string& url, HttpOptions options, SpoolBudget& budget) {
  FromServer file = open_url_once(url, std::move(options));
  return file.source ? file.source : spool(*file.stream, budget);
}

}  // namespace operculum

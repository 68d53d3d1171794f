#include "io/http_source.h"

#include <algorithm>
#include <list>
#include <mutex>
#include <unordered_map>

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

/// What a first request brings: all of it where the server sends no parts. The first block stays in memory.
class Received {
 public:
  explicit Received(SpoolBudget& spool) : spool_(spool) {}
  void add(ByteView bytes) {
    if (!writer_ && front_.size() + bytes.size() <= kHttpBlock) {
      front_.insert(front_.end(), bytes.begin(), bytes.end());
      return;
    }
    if (!writer_) {
      writer_.emplace(spool_);
      writer_->append(front_);
    }
    writer_->append(bytes);
  }
  const Bytes& front() const { return front_; }
  SourcePtr all() {
    if (!writer_) return make_memory_source(std::move(front_));
    return writer_->finish();
  }

 private:
  SpoolBudget& spool_;
  Bytes front_;
  std::optional<SpoolWriter> writer_;
};

}  // namespace

SourcePtr open_url(const std::string& url, HttpOptions options, SpoolBudget& spool) {
  auto client = std::make_unique<HttpClient>(url, std::move(options));
  Received first(spool);
  HttpHead head = client->begin(kHttpBlock, [&](ByteView bytes) { first.add(bytes); });
  bool complete = !head.ranges || *head.size <= kHttpBlock;
  if (complete) return first.all();
  return std::make_shared<HttpSource>(std::move(client), *head.size, first.front());
}

}  // namespace operculum

#pragma once

#include <functional>
#include <future>
#include <list>
#include <memory>
#include <mutex>
#include <unordered_map>

#include "base/bytes.h"

namespace operculum {

using BytesPtr = std::shared_ptr<const Bytes>;

/// The blocks used last, each made once however many threads want it at the same time. Safe to share between
/// threads.
class BlockCache {
 public:
  explicit BlockCache(std::uint64_t limit) : limit_(limit) {}  ///< in bytes of blocks

  /// The block of that key; `make` is called when it is not there. What `make` throws reaches everyone who
  /// waits for the block, and the next who asks tries again.
  BytesPtr get(std::uint64_t key, const std::function<Bytes()>& make);

 private:
  struct Cached {
    std::uint64_t key;
    std::shared_future<BytesPtr> block;  // that some thread makes or has made
    std::uint64_t size = 0;              // once it is made
  };
  using Place = std::list<Cached>::iterator;
  void made(std::uint64_t key, std::uint64_t size);
  void forget(std::uint64_t key);

  std::uint64_t limit_;
  std::mutex mutex_;         // guards the rest
  std::list<Cached> cache_;  // most recent first
  std::unordered_map<std::uint64_t, Place> places_;
  std::uint64_t held_ = 0;
};

}  // namespace operculum

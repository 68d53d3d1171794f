#include "io/block_cache.h"

namespace operculum {

BytesPtr BlockCache::get(std::uint64_t key, const std::function<Bytes()>& make) {
  std::promise<BytesPtr> promise;
  {
    std::unique_lock lock(mutex_);
    auto found = places_.find(key);
    if (found != places_.end()) {
      cache_.splice(cache_.begin(), cache_, found->second);
      auto block = found->second->block;
      lock.unlock();
      return block.get();
    }
    cache_.push_front({key, promise.get_future().share()});
    places_[key] = cache_.begin();
  }
  try {
    auto block = std::make_shared<const Bytes>(make());
    promise.set_value(block);
    made(key, block->size());
    return block;
  } catch (...) {
    promise.set_exception(std::current_exception());
    forget(key);
    throw;
  }
}

void BlockCache::made(std::uint64_t key, std::uint64_t size) {
  std::lock_guard lock(mutex_);
  auto found = places_.find(key);
  if (found == places_.end()) return;
  found->second->size = size;
  held_ += size;
  while (held_ > limit_ && cache_.size() > 1) {
    held_ -= cache_.back().size;
    places_.erase(cache_.back().key);
    cache_.pop_back();
  }
}

void BlockCache::forget(std::uint64_t key) {
  std::lock_guard lock(mutex_);
  auto found = places_.find(key);
  if (found == places_.end()) return;
  cache_.erase(found->second);
  places_.erase(found);
}

}  // namespace operculum

#pragma once

#include <functional>
#include <future>
#include <list>
#include <mutex>

#include "io/source.h"

namespace operculum {

/// One independently compressed block of a decoded image.
struct Block {
  std::uint64_t unpacked_offset, unpacked_size;  ///< in the decoded image
  std::uint64_t stored_offset, stored_size;      ///< in the container
};

/// Random access to data kept in independently compressed blocks: decodes a block when a byte of it is wanted
/// and keeps the last few decoded ones, up to a memory limit. Blocks are in rising order without gaps.
class BlockSource final : public Source {
 public:
  /// Decodes one block to exactly `block.unpacked_size` bytes or throws Malformed.
  using Decode = std::function<Bytes(const Block& block)>;
  static constexpr std::uint64_t kCacheBytes = 32 << 20;

  BlockSource(std::vector<Block> blocks, Decode decode);
  std::uint64_t size() const override;
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override;
  bool costly() const override { return true; }

 private:
  using BytesPtr = std::shared_ptr<const Bytes>;
  struct Cached {
    std::size_t index;
    std::shared_future<BytesPtr> bytes;  // of a block that some thread decodes or has decoded
  };
  BytesPtr block(std::size_t index) const;

  std::vector<Block> blocks_;
  Decode decode_;
  mutable std::mutex mutex_;         // guards the cache
  mutable std::list<Cached> cache_;  // most recent first
  mutable std::uint64_t cached_bytes_ = 0;
};

}  // namespace operculum

#pragma once

#include <algorithm>
#include <functional>

#include "io/block_cache.h"
#include "io/source.h"

namespace operculum {

/// One independently compressed block of a decoded image.
struct Block {
  std::uint64_t unpacked_offset, unpacked_size;  ///< in the decoded image
  std::uint64_t stored_offset, stored_size;      ///< in the container
  std::uint32_t tag = 0;                         ///< how it is packed, for whoever decodes it
  bool hole = false;                             ///< zeros that are stored nowhere
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
  std::uint64_t grain() const override { return std::max<std::uint64_t>(largest_, 1); }

 private:
  std::vector<Block> blocks_;
  std::uint64_t largest_ = 0;  // block, in bytes when it is decoded
  Decode decode_;
  mutable BlockCache cache_{kCacheBytes};
};

}  // namespace operculum

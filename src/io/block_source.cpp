#include "io/block_source.h"

#include <algorithm>
#include <cstring>

#include "base/error.h"

namespace operculum {

BlockSource::BlockSource(std::vector<Block> blocks, Decode decode)
    : blocks_(std::move(blocks)), decode_(std::move(decode)) {
  for (const Block& block : blocks_) largest_ = std::max(largest_, block.unpacked_size);
}

std::uint64_t BlockSource::size() const {
  return blocks_.empty() ? 0 : blocks_.back().unpacked_offset + blocks_.back().unpacked_size;
}

std::size_t BlockSource::read_at(std::uint64_t offset, ByteSpan out) const {
  std::size_t done = 0;
  while (done < out.size() && offset + done < size()) {
    std::uint64_t at = offset + done;
    auto above =
        std::upper_bound(blocks_.begin(), blocks_.end(), at,
                         [](std::uint64_t place, const Block& b) { return place < b.unpacked_offset; });
    auto index = static_cast<std::size_t>(above - blocks_.begin()) - 1;
    BytesPtr bytes = cache_.get(index, [&] {
      Bytes decoded = decode_(blocks_[index]);
      if (decoded.size() != blocks_[index].unpacked_size) {
        throw Malformed("a compressed block has another size than its index says");
      }
      return decoded;
    });
    auto within = static_cast<std::size_t>(at - blocks_[index].unpacked_offset);
    std::size_t count = std::min(out.size() - done, bytes->size() - within);
    std::memcpy(out.data() + done, bytes->data() + within, count);
    done += count;
  }
  return done;
}

}  // namespace operculum

#include "io/cached_source.h"

#include <algorithm>
#include <cstring>

#include "io/block_cache.h"

namespace operculum {
namespace {

class CachedSource final : public Source {
 public:
  CachedSource(SourcePtr inner, std::uint64_t chunk, std::uint64_t limit)
      : inner_(std::move(inner)), chunk_(chunk), cache_(limit) {}
  std::uint64_t size() const override { return inner_->size(); }
  std::uint64_t hole_at(std::uint64_t offset) const override { return inner_->hole_at(offset); }
  std::uint64_t grain() const override { return inner_->grain(); }
  std::optional<SourceRun> origin_at(std::uint64_t offset) const override {
    if (offset >= size()) return std::nullopt;
    return SourceRun{inner_.get(), offset, size() - offset};
  }

  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    if (out.size() >= chunk_) return inner_->read_at(offset, out);
    std::size_t done = 0;
    while (done < out.size()) {
      std::uint64_t at = offset + done, within = at % chunk_;
      if (at >= size()) break;
      BytesPtr block = cache_.get(at / chunk_, [&] { return read_up_to(*inner_, at - within, chunk_); });
      if (within >= block->size()) break;
      std::size_t count = std::min<std::size_t>(out.size() - done, block->size() - within);
      std::memcpy(out.data() + done, block->data() + within, count);
      done += count;
    }
    return done;
  }

 private:
  SourcePtr inner_;
  std::uint64_t chunk_;
  mutable BlockCache cache_;
};

}  // namespace

SourcePtr make_cached(SourcePtr inner, std::uint64_t chunk, std::uint64_t limit) {
  if (inner->view()) return inner;
  return std::make_shared<CachedSource>(std::move(inner), chunk, limit);
}

}  // namespace operculum

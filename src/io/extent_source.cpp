#include "io/extent_source.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/checked.h"

namespace operculum {
namespace {

class ExtentSource final : public Source {
 public:
  ExtentSource(SourcePtr whole, std::vector<Extent> extents, std::uint64_t size)
      : whole_(std::move(whole)), extents_(std::move(extents)), size_(size) {}
  std::uint64_t size() const override { return size_; }
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    if (offset >= size_) return 0;
    out = out.first(static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), size_ - offset)));
    auto next = std::upper_bound(extents_.begin(), extents_.end(), offset,
                                 [](std::uint64_t at, const Extent& extent) { return at < extent.logical; });
    if (next != extents_.begin()) --next;
    std::size_t done = 0;
    while (done < out.size()) {
      std::uint64_t at = offset + done;
      while (next != extents_.end() && next->logical + next->length <= at) ++next;
      ByteSpan rest = out.subspan(done);
      if (next == extents_.end() || next->logical > at) {
        std::uint64_t hole = next == extents_.end() ? rest.size() : next->logical - at;
        auto count = static_cast<std::size_t>(std::min<std::uint64_t>(hole, rest.size()));
        std::fill_n(rest.begin(), count, Byte{0});
        done += count;
      } else {
        std::uint64_t within = at - next->logical;
        auto count = static_cast<std::size_t>(std::min<std::uint64_t>(next->length - within, rest.size()));
        std::size_t got = whole_->read_at(next->stored + within, rest.first(count));
        done += got;
        if (got < count) break;  // the container ends here
      }
    }
    return done;
  }
  std::uint64_t hole_at(std::uint64_t offset) const override {
    if (offset >= size_) return 0;
    auto next = std::upper_bound(extents_.begin(), extents_.end(), offset,
                                 [](std::uint64_t at, const Extent& extent) { return at < extent.logical; });
    if (next != extents_.begin()) {
      const Extent& extent = *std::prev(next);
      std::uint64_t within = offset - extent.logical;
      if (within < extent.length)
        return std::min(whole_->hole_at(extent.stored + within), extent.length - within);
    }
    return (next == extents_.end() ? size_ : next->logical) - offset;
  }
  std::uint64_t grain() const override { return whole_->grain(); }
  std::optional<SourceRun> origin_at(std::uint64_t offset) const override {
    auto next = std::upper_bound(extents_.begin(), extents_.end(), offset,
                                 [](std::uint64_t at, const Extent& extent) { return at < extent.logical; });
    if (next == extents_.begin()) return std::nullopt;
    const Extent& extent = *std::prev(next);
    std::uint64_t within = offset - extent.logical;
    if (within >= extent.length) return std::nullopt;
    return SourceRun{whole_.get(), extent.stored + within, extent.length - within};
  }

 private:
  SourcePtr whole_;
  std::vector<Extent> extents_;
  std::uint64_t size_;
};

class ExtentStream final : public Stream {
 public:
  ExtentStream(StreamPtr packed, std::vector<Extent> extents, std::uint64_t size)
      : packed_(std::move(packed)), extents_(std::move(extents)), size_(size) {}
  std::size_t read(ByteSpan out) override {
    while (next_ < extents_.size() && at_ == extents_[next_].logical + extents_[next_].length) ++next_;
    if (at_ == size_) return 0;
    bool in_hole = next_ == extents_.size() || at_ < extents_[next_].logical;
    std::uint64_t run_end = next_ == extents_.size() ? size_
                            : at_ < extents_[next_].logical
                                ? extents_[next_].logical
                                : extents_[next_].logical + extents_[next_].length;
    auto count = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), run_end - at_));
    if (in_hole) {
      std::fill_n(out.begin(), count, Byte{0});
    } else {
      count = packed_->read(out.first(count));
    }
    at_ += count;
    return count;
  }
  std::uint64_t skip_hole() override {
    while (next_ < extents_.size() && at_ == extents_[next_].logical + extents_[next_].length) ++next_;
    std::uint64_t until = next_ == extents_.size() ? size_ : std::max(at_, extents_[next_].logical);
    return until - std::exchange(at_, until);
  }

 private:
  StreamPtr packed_;
  std::vector<Extent> extents_;
  std::uint64_t size_;
  std::uint64_t at_ = 0;
  std::size_t next_ = 0;
};

}  // namespace

void check_extents(const std::vector<Extent>& extents, std::uint64_t size) {
  std::uint64_t end = 0;
  for (const Extent& extent : extents) {
    std::uint64_t extent_end = checked_add(extent.logical, extent.length, "a sparse extent");
    if (extent.logical < end || extent_end > size) {
      throw Malformed(fmt::format(
          "sparse map: the extent at {} with {} bytes overlaps another or leaves the entry's {} bytes",
          extent.logical, extent.length, size));
    }
    end = extent_end;
  }
}

SourcePtr make_extent_source(SourcePtr whole, std::vector<Extent> extents, std::uint64_t size) {
  check_extents(extents, size);
  return std::make_shared<ExtentSource>(std::move(whole), std::move(extents), size);
}

StreamPtr make_extent_stream(StreamPtr packed, std::vector<Extent> extents, std::uint64_t size) {
  check_extents(extents, size);
  return std::make_unique<ExtentStream>(std::move(packed), std::move(extents), size);
}

}  // namespace operculum

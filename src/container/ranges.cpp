#include "container/ranges.h"

#include "codec/codec.h"

namespace operculum {
namespace {

class RangesContainer final : public Container {
 public:
  RangesContainer(SourcePtr bytes, std::vector<NamedRange> ranges)
      : bytes_(std::move(bytes)), ranges_(std::move(ranges)) {
    for (const NamedRange& range : ranges_) {
      Entry entry;
      entry.path = range.path;
      entry.stored_at = range.at;
      entry.size = entry.stored_size = range.size;
      if (!range.sum.empty()) entry.flags |= Entry::has_sum;
      entries_.push_back(std::move(entry));
    }
  }

  std::span<const Entry> entries() override { return entries_; }
  ContentPtr content(std::size_t index) override {
    const NamedRange& range = ranges_[index];
    ContentPtr part = make_content(make_slice(bytes_, range.at, range.size));
    if (range.sum.empty()) return part;
    return make_checked(std::move(part), {range.size, std::nullopt, range.sum, range.digest});
  }

 private:
  SourcePtr bytes_;
  std::vector<NamedRange> ranges_;
  std::vector<Entry> entries_;
};

}  // namespace

ContainerPtr make_ranges(SourcePtr bytes, std::vector<NamedRange> ranges) {
  return std::make_shared<RangesContainer>(std::move(bytes), std::move(ranges));
}

}  // namespace operculum

#include "container/ranges.h"

namespace operculum {
namespace {

class RangesContainer final : public Container {
 public:
  RangesContainer(SourcePtr bytes, const std::vector<NamedRange>& ranges) : bytes_(std::move(bytes)) {
    for (const NamedRange& range : ranges) {
      Entry entry;
      entry.path = range.path;
      entry.offset = range.at;
      entry.size = entry.stored_size = range.size;
      entries_.push_back(std::move(entry));
    }
  }

  std::span<const Entry> entries() override { return entries_; }
  ContentPtr content(std::size_t index) override {
    return make_content(make_slice(bytes_, entries_[index].offset, entries_[index].size));
  }

 private:
  SourcePtr bytes_;
  std::vector<Entry> entries_;
};

}  // namespace

ContainerPtr make_ranges(SourcePtr bytes, const std::vector<NamedRange>& ranges) {
  return std::make_shared<RangesContainer>(std::move(bytes), ranges);
}

}  // namespace operculum

#include "collection/merged_container.h"

namespace operculum {
namespace {

class Merged final : public Container {
 public:
  explicit Merged(std::vector<MergedFile> files) : files_(std::move(files)) {
    for (const MergedFile& file : files_) {
      Entry entry = copy_of(*file.item->entry);
      entry.path = file.path;
      entries_.push_back(std::move(entry));
    }
  }

  std::span<const Entry> entries() override { return entries_; }
  ContentPtr content(std::size_t index) override {
    return files_[index].inventory->content(*files_[index].item);
  }

 private:
  std::vector<MergedFile> files_;
  std::vector<Entry> entries_;
};

}  // namespace

const Format& merged_format() {
  static const Format kFormat{.id = "merged", .name = "loading order", .family = "folder"};
  return kFormat;
}

ContainerPtr make_merged(std::vector<MergedFile> files) {
  return std::make_shared<Merged>(std::move(files));
}

}  // namespace operculum

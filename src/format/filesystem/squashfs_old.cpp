#include "format/filesystem/squashfs_old.h"

#include <fmt/format.h>

#include "container/trim.h"
#include "format/filesystem/squashfs_tree.h"
#include "io/block_content.h"

namespace operculum {
namespace {

using namespace squash_old;
using squash::Inode;

class OldSquashContainer final : public FileTree {
 public:
  OldSquashContainer(const SourcePtr& image, const Front& front, OpenContext& context)
      : FileTree(context.limits), image_(image), volume_(image, front) {
    squash::compare_image_size(*this, image->size(), front.places.used);
  }

  Facts facts() override {
    const squash_old::Super& super = volume_.front().super;
    return {{"version", fmt::format("{}.{}", super.major, super.minor)},
            {"order", volume_.front().order == std::endian::big ? "big-endian" : "little-endian"},
            {"made", to_text(from_unix(static_cast<std::int64_t>(super.made)))},
            {"used", size_fact(volume_.front().places.used)},
            {"block", size_fact(super.block_size)},
            {"packed by", std::string(volume_.packing())}};
  }

  std::optional<Trimmed> trimmed(Look look) override {
    return without_end(image_, volume_.front().places.used, squash::kPadding, look);
  }

 protected:
  NodeRef root() override { return {volume_.front().super.root}; }

  void list(NodeRef folder, Detail detail, const TreeSink& sink) override {
    Inode inode = volume_.inode(folder.a);
    squash::require_folder(inode);
    volume_.rows(inode, [&](OldVolume::Row&& row) {
      TreeItem item;
      item.ref = {row.ref};
      item.entry.path = std::move(row.name);
      item.entry.method = method_;
      std::optional<EntryKind> kind = squash::kind_of_row(row.type);
      if (kind) item.entry.kind = *kind;
      if (detail == Detail::paths && kind) return sink(std::move(item));
      add_filled(std::move(item), sink,
                 [&](TreeItem& one) { squash::fill_item(one, volume_.inode(one.ref.a)); });
    });
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    std::vector<std::uint32_t> words;
    Inode inode = volume_.inode(ref.a, &words);
    auto self = std::static_pointer_cast<OldSquashContainer>(shared_from_this());
    return make_block_content(volume_.blocks(inode, words),
                              [self](const Block& block, ByteSpan out) { self->volume_.decode(block, out); });
  }

 private:
  SourcePtr image_;
  OldVolume volume_;
  std::string_view method_ = volume_.packing();
};

}  // namespace

ContainerPtr open_old_squashfs(const SourcePtr& image, const Front& front, OpenContext& context) {
  return std::make_shared<OldSquashContainer>(image, front, context);
}

}  // namespace operculum

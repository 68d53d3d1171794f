// SquashFS: the tree of a 4.0 image, whose structures are read in squashfs_volume.cpp. Older versions are in
// squashfs_old.cpp.
#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>

#include "base/fields.h"
#include "container/record_fields.h"
#include "container/trim.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/squashfs_old.h"
#include "format/filesystem/squashfs_rewrite.h"
#include "format/filesystem/squashfs_tree.h"
#include "io/block_content.h"

namespace operculum {
namespace {

using namespace squash;

constexpr std::string_view kUsualMagic = "hsqs";

class SquashContainer final : public FileTree {
 public:
  SquashContainer(const SourcePtr& image, OpenContext& context)
      : FileTree(context.limits), image_(image), volume_(image) {
    compare_image_size(*this, image->size(), volume_.super().bytes_used);
    try {
      volume_.read_ids();
    } catch (const Malformed& error) {
      add_finding(Finding::Level::fault, fmt::format("the table of owners is damaged: {}", error.what()));
    }
  }

  Facts facts() override {
    return {{"made", to_text(from_unix(volume_.super().made))},
            {"used", size_fact(volume_.super().bytes_used)},
            {"block", size_fact(volume_.super().block_size)},
            {"packed by", std::string(name_of(volume_.codec()))}};
  }

  std::optional<Trimmed> trimmed(Look look) override {
    return without_end(image_, volume_.super().bytes_used, kPadding, look);
  }

  /// With another method everything is packed anew, else only what changes.
  Assembly rewrite(const Changes& changes, const Writing& writing) override {
    if (changes.empty()) return unchanged(image_);
    TreeNode tree = changed_tree(*this, changes);
    fill_root(tree);
    Form form = form_of(volume_.super(), volume_.codec_options());
    std::vector<OldFile> files = old_files(tree);
    bool anew = !writing.choice.method.empty();
    if (anew) {
      form = usual_form(writing.choice.method, writing.choice.level);
      each_node(tree, "", [&](TreeNode& node, const std::string&) {
        if (node.is_kept_file()) node.content = content(*node.old);
      });
    } else {
      compare_packing(files, form, changes, writing);
      if (writing.choice.level) form.packing.level = writing.choice.level;
    }
    StoredFiles stored;
    DataWriter writer(form, data_begin(form), threads_of(writing.choice), writing.spool);
    Assembly data;
    if (anew) {
      data = pack_files(tree, form, writing.choice.jobs, writer, stored);
    } else {
      DataRewriter(volume_, image_, writer, stored).run(files, tree);
      data = writer.finish();
    }
    return whole_image(form, tree, stored, data, writer.fragments());
  }

 protected:
  NodeRef root() override { return {volume_.super().root}; }

  void list(NodeRef folder, Detail detail, const TreeSink& sink) override {
    Inode inode = volume_.inode(folder.a);
    require_folder(inode);
    if (inode.size < 4) return;  // an empty folder counts 3 bytes
    std::uint64_t left = inode.size - 3;
    MetaReader reader = volume_.folder(inode);
    while (left > 0) {
      auto head = read_structure<FolderHead>(reader.take(size_on_disk<FolderHead>).data());
      std::uint64_t count = std::uint64_t{head.count} + 1, block = head.start;
      if (count > kMostRowsAHead)
        throw Malformed(fmt::format("SquashFS folder header: {} entries, at most 256 are possible", count));
      left -= std::min<std::uint64_t>(left, size_on_disk<FolderHead>);
      for (std::uint64_t i = 0; i < count; ++i) {
        auto one = read_structure<FolderRow>(reader.take(size_on_disk<FolderRow>).data());
        std::size_t length = std::size_t{one.size} + 1;
        Bytes name = reader.take(length);
        left -= std::min<std::uint64_t>(left, size_on_disk<FolderRow> + length);
        row((block << 16) | one.offset, one.type, as_text(name), detail, sink);
      }
    }
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    std::vector<std::uint32_t> sizes;
    Inode inode = volume_.inode(ref.a, &sizes);
    auto self = std::static_pointer_cast<SquashContainer>(shared_from_this());
    return make_block_content(volume_.blocks(inode, sizes),
                              [self](const Block& block, ByteSpan out) { self->volume_.decode(block, out); });
  }

 private:
  void fill_root(TreeNode& tree) {
    TreeItem item;
    fill(item, volume_.inode(volume_.super().root));
    tree.mode = item.entry.mode;
    tree.modified = item.entry.modified;
    if (item.entry.extra) tree.extra = *item.entry.extra;
  }

  std::vector<OldFile> old_files(TreeNode& tree) {
    std::unordered_map<std::size_t, const TreeNode*> nodes;
    each_node(tree, "", [&](TreeNode& node, const std::string&) {
      if (node.old) nodes.emplace(*node.old, &node);
    });
    std::vector<OldFile> out;
    std::span<const Entry> all = entries();
    for (std::size_t i = 0; i < all.size(); ++i) {
      if (all[i].kind != EntryKind::file) continue;  // hard links have the blocks of their file
      OldFile& file = out.emplace_back();
      file.inode = volume_.inode(ref_of(i).a, &file.sizes);
      auto node = nodes.find(i);
      if (node != nodes.end()) file.node = node->second;
    }
    return out;
  }

  /// Says when a block of the image, packed again with its settings, is not the same.
  void compare_packing(const std::vector<OldFile>& files, const Form& form, const Changes& changes,
                       const Writing& writing) {
    auto same = same_packing(files, form);
    if (same.value_or(true)) return;
    for (const auto& [index, entry] : changes.replaced)
      writing.note(
          entries()[index].path,
          fmt::format("packed with {}; the original was made by another encoder", name_of(form.codec)));
  }

  /// Looks at the first block that is packed; nothing where there is none.
  std::optional<bool> same_packing(const std::vector<OldFile>& files, const Form& form) {
    for (const OldFile& file : files) {
      std::vector<Block> blocks = volume_.blocks(file.inode, file.sizes);
      for (std::size_t i = 0; i < file.sizes.size(); ++i) {
        std::uint32_t word = file.sizes[i];
        if (word == 0 || (word & kDataStored) != 0) continue;
        Bytes plain(static_cast<std::size_t>(blocks[i].unpacked_size));
        volume_.decode(blocks[i], plain);
        return pack_block(form.codec, plain, form.packing) ==
               read_up_to(*image_, blocks[i].stored_offset, word);
      }
    }
    if (volume_.super().fragments == 0) return std::nullopt;
    FragmentRecord record = volume_.fragment_record(0);
    if ((record.size & kDataStored) != 0) return std::nullopt;
    return pack_block(form.codec, *volume_.fragment(0), form.packing) ==
           read_up_to(*image_, record.start, record.size);
  }

  void row(std::uint64_t ref, std::uint16_t type, std::string_view name, Detail detail,
           const TreeSink& sink) {
    TreeItem item;
    item.ref = {ref};
    item.entry.path = name;
    item.entry.method = name_of(volume_.codec());
    std::optional<EntryKind> kind = kind_of_row(type);
    if (kind) item.entry.kind = *kind;
    if (detail == Detail::paths && kind) return sink(std::move(item));
    add_filled(std::move(item), sink, [&](TreeItem& one) { fill(one, volume_.inode(ref)); });
  }

  void fill(TreeItem& item, const Inode& inode) {
    fill_item(item, inode);
    if (inode.attributes != kNoAttributes)
      item.entry.extras().attributes = volume_.attributes(inode.attributes);
  }

  SourcePtr image_;
  Volume volume_;
};

constexpr std::string_view kMagics[] = {"hsqs", "sqsh", "shsq", "qshs", "tqsh", "hsqt", "sqlz"};

/// Whether a superblock of 4.0 can be what is at the front. Makers of devices write other magics; everything
/// else is as it should be.
bool is_super(ByteView head) {
  if (head.size() < kSuperSize) return false;
  auto super = read_structure<Super>(head.data());
  return super.major == 4 &&
         (starts_with(head, kUsualMagic) ||
          (super.block_log >= 12 && super.block_log <= 20 && super.block_size == 1u << super.block_log));
}

Match recognise_squashfs(Probe& probe) {
  ByteView head = probe.head(squash_old::kSuperSizes);
  bool known = std::any_of(std::begin(kMagics), std::end(kMagics),
                           [&](auto magic) { return starts_with(head, magic); });
  return known && (is_super(head) || squash_old::read_super(head)) ? Match::front : Match::none;
}

/// What is said of a magic that is not the one of its byte order.
void tell_magic(Container& container, ByteView head, std::string_view usual) {
  std::string_view magic = as_text(head).substr(0, usual.size());
  if (magic != usual)
    container.add_finding(Finding::Level::note,
                          fmt::format("its magic is \"{}\" where \"{}\" is usual", magic, usual));
}

ContainerPtr open_squashfs(const Input& input, OpenContext& context) {
  SourcePtr image = random_access(*input.content, context.spool);
  Bytes head = read_up_to(*image, 0, squash_old::kSuperSizes);
  auto old = is_super(head) ? std::nullopt : squash_old::read_super(head);
  ContainerPtr container =
      old ? open_old_squashfs(image, *old, context) : std::make_shared<SquashContainer>(image, context);
  tell_magic(*container, head, old && old->order == std::endian::big ? "sqsh" : kUsualMagic);
  return container;
}

}  // namespace

Format squashfs_format() {
  return {
      .id = "squashfs",
      .name = "SquashFS file system",
      .family = "file system",
      .specification = "Linux kernel documentation, filesystems/squashfs (4.0)",
      .reads =
          "4.0: gzip, LZMA, xz, LZO, LZ4 and zstd; fragments; sparse files; all inode kinds; extended "
          "attributes; hard links; 2.x and 3.x in both byte orders, also packed by LZMA with or without a "
          "header; images with other magics",
      .lacks = "versions 1.x; writing of versions before 4.0",
      .writes =
          "packed as it was, blocks of what stays as they lie; every codec, fragments, holes, hard links, "
          "extended attributes; images from scratch",
      .suffixes = {".squashfs", ".sqfs", ".sfs", ".snap"},
      .own_order = true,
      .recognise = recognise_squashfs,
      .open = open_squashfs,
      .pack = pack_squashfs,
      .keeps = {.devices = true, .attributes = true},
      .records = {record_at<Super>("superblock", 0)}};
}

Assembly pack_squashfs(const std::vector<NewEntry>& entries, const Writing& writing) {
  TreeNode tree = new_tree(entries);
  std::int64_t latest = latest_time(tree);
  tree.modified = from_unix(latest);
  Form form = usual_form(writing.choice.method, writing.choice.level);
  form.super.made = static_cast<std::uint32_t>(std::min<std::int64_t>(latest, UINT32_MAX));
  StoredFiles stored;
  DataWriter writer(form, data_begin(form), threads_of(writing.choice), writing.spool);
  Assembly data = pack_files(tree, form, writing.choice.jobs, writer, stored);
  return whole_image(form, tree, stored, data, writer.fragments());
}

}  // namespace operculum

// SquashFS 4.0: the tree of an image; its structures are read in squashfs_volume.cpp.
#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>

#include "base/fields.h"
#include "container/trim.h"
#include "format/filesystem/device_number.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/squashfs_rewrite.h"
#include "format/formats.h"
#include "io/block_content.h"

namespace operculum {
namespace {

using namespace squash;

constexpr std::uint32_t kMagic = 0x73717368;     // "hsqs"
constexpr std::uint32_t kMagicBig = 0x68737173;  // "sqsh": the byte order of older versions
constexpr std::uint64_t kPadding = 4096;         // images fill up to a multiple of it

class SquashContainer final : public FileTree {
 public:
  SquashContainer(const SourcePtr& image, OpenContext& context)
      : FileTree(context.limits), image_(image), volume_(image) {
    std::uint64_t used = volume_.super().bytes_used, padded = (used + kPadding - 1) / kPadding * kPadding;
    if (image->size() < used || image->size() > padded) compare_sizes(*this, image->size(), used);
    try {
      volume_.read_ids();
    } catch (const Malformed& error) {
      add_finding(Finding::Level::fault, fmt::format("the table of owners is damaged: {}", error.what()));
    }
  }

  std::vector<std::pair<std::string, std::string>> facts() override {
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
    if (inode.type != Type::folder && inode.type != Type::long_folder)
      throw Malformed("SquashFS: a folder's inode is of another kind");
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
    static constexpr EntryKind kKinds[] = {
        EntryKind::file,         EntryKind::folder,           EntryKind::file, EntryKind::symbolic_link,
        EntryKind::block_device, EntryKind::character_device, EntryKind::fifo, EntryKind::socket};
    TreeItem item;
    item.ref = {ref};
    item.entry.path = name;
    item.entry.method = name_of(volume_.codec());
    if (type < std::size(kKinds)) item.entry.kind = kKinds[type];
    if (detail == Detail::paths && type < std::size(kKinds)) return sink(std::move(item));
    add_filled(std::move(item), sink, [&](TreeItem& one) { fill(one, volume_.inode(ref)); });
  }

  void fill(TreeItem& item, const Inode& inode) {
    static constexpr EntryKind kKinds[] = {
        EntryKind::folder,           EntryKind::file, EntryKind::symbolic_link, EntryKind::block_device,
        EntryKind::character_device, EntryKind::fifo, EntryKind::socket};
    Entry& entry = item.entry;
    entry.kind = kKinds[(inode.type - 1) % 7];
    entry.mode = inode.mode;
    entry.modified = from_unix(inode.time);
    EntryExtra& extra = entry.extras();
    extra.user_id = inode.uid;
    extra.group_id = inode.gid;
    extra.link_target = inode.target;
    set_device(extra, inode.device);
    if (inode.attributes != kNoAttributes) extra.attributes = volume_.attributes(inode.attributes);
    if (entry.kind != EntryKind::file) return;
    entry.size = inode.size;
    if (inode.sparse > 0) entry.flags |= Entry::sparse;
    if (inode.links > 1) item.link_id = inode.number;
  }

  SourcePtr image_;
  Volume volume_;
};

/// Makers of devices write images with other magics; everything else is as it should be.
bool has_other_magic(ByteView head) {
  constexpr std::string_view kOthers[] = {"shsq", "qshs", "tqsh", "hsqt", "sqlz"};
  bool known = std::any_of(std::begin(kOthers), std::end(kOthers),
                           [&](auto magic) { return starts_with(head, magic); });
  if (!known || head.size() < kSuperSize) return false;
  auto super = read_structure<Super>(head.data());
  return super.major == 4 && super.block_log >= 12 && super.block_log <= 20 &&
         super.block_size == 1u << super.block_log;
}

Match recognise_squashfs(Probe& probe) {
  ByteView head = probe.head(kSuperSize);
  if (head.size() < kSuperSize) return Match::none;
  std::uint32_t magic = load_little<std::uint32_t>(head.data());
  if (magic == kMagicBig || has_other_magic(head)) return Match::front;
  if (magic != kMagic) return Match::none;
  std::uint16_t major = read_field(&Super::major, head.data());
  return major >= 1 && major <= 4 ? Match::front : Match::none;
}

ContainerPtr open_squashfs(const Input& input, OpenContext& context) {
  SourcePtr image = random_access(*input.content, context.spool);
  if (read_up_to(*image, 0, 4) == Bytes{'s', 'q', 's', 'h'})
    throw Unsupported("SquashFS in big-endian byte order (versions before 4.0)");
  auto container = std::make_shared<SquashContainer>(image, context);
  if (Bytes head = read_up_to(*image, 0, kSuperSize); has_other_magic(head))
    container->add_finding(Finding::Level::note, fmt::format("its magic is \"{}\" where \"hsqs\" is usual",
                                                             as_text(head).substr(0, 4)));
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
          "gzip, LZMA, xz, LZO, LZ4 and zstd; fragments; sparse files; all inode kinds; extended "
          "attributes; hard links; images with other magics whose structures are the same",
      .lacks = "versions before 4.0",
      .writes =
          "packed as it was, blocks of what stays as they lie; every codec, fragments, holes, hard links, "
          "extended attributes; images from scratch",
      .suffixes = {".squashfs", ".sqfs", ".sfs", ".snap"},
      .own_order = true,
      .recognise = recognise_squashfs,
      .open = open_squashfs,
      .pack = pack_squashfs,
      .keeps = {.devices = true, .attributes = true}};
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

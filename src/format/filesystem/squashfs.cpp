// SquashFS 4.0: the tree of an image; its structures are read in squashfs_volume.cpp.
#include <fmt/format.h>

#include "base/fields.h"
#include "format/filesystem/device_number.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/squashfs_volume.h"
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
  SquashContainer(const SourcePtr& image, OpenContext& context) : FileTree(context.limits), volume_(image) {
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
      Bytes head = reader.take(12);
      LittleFields h(head, "SquashFS folder header");
      std::uint64_t count = std::uint64_t{h.u32(0)} + 1, block = h.u32(4);
      if (count > 256)
        throw Malformed(fmt::format("SquashFS folder header: {} entries, at most 256 are possible", count));
      left -= std::min<std::uint64_t>(left, 12);
      for (std::uint64_t i = 0; i < count; ++i) {
        Bytes raw = reader.take(8);
        LittleFields f(raw, "SquashFS folder entry");
        std::size_t length = std::size_t{f.u16(6)} + 1;
        Bytes name = reader.take(length);
        left -= std::min<std::uint64_t>(left, 8 + length);
        row((block << 16) | f.u16(0), f.u16(4), as_text(name), detail, sink);
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

  Volume volume_;
};

/// Makers of devices write images with other magics; everything else is as it should be.
bool has_other_magic(ByteView head) {
  constexpr std::string_view kOthers[] = {"shsq", "qshs", "tqsh", "hsqt", "sqlz"};
  bool known = std::any_of(std::begin(kOthers), std::end(kOthers),
                           [&](auto magic) { return starts_with(head, magic); });
  if (!known || head.size() < kSuperSize) return false;
  LittleFields f(head, "SquashFS superblock");
  std::uint16_t log = f.u16(22);
  return f.u16(28) == 4 && log >= 12 && log <= 20 && f.u32(12) == 1u << log;
}

Match recognise_squashfs(Probe& probe) {
  ByteView head = probe.head(kSuperSize);
  if (head.size() < kSuperSize) return Match::none;
  std::uint32_t magic = load_little<std::uint32_t>(head.data());
  if (magic == kMagicBig || has_other_magic(head)) return Match::front;
  if (magic != kMagic) return Match::none;
  std::uint16_t major = load_little<std::uint16_t>(head.data() + 28);
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
  return {.id = "squashfs",
          .name = "SquashFS file system",
          .family = "file system",
          .specification = "Linux kernel documentation, filesystems/squashfs (4.0)",
          .reads =
              "gzip, LZMA, xz, LZO, LZ4 and zstd; fragments; sparse files; all inode kinds; extended "
              "attributes; hard links; images with other magics whose structures are the same",
          .lacks = "versions before 4.0",
          .suffixes = {".squashfs", ".sqfs", ".sfs", ".snap"},
          .recognise = recognise_squashfs,
          .open = open_squashfs};
}

}  // namespace operculum

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/device_number.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/inode_entry.h"
#include "format/filesystem/nilfs_volume.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace nilfs;

constexpr std::string_view kCurrent = "current", kSnapshots = "snapshots", kCheckpoints = "checkpoints";
constexpr std::uint64_t kLargestFolder = 256 << 20;  // bytes

/// struct nilfs_dir_entry, in front of the name.
struct FolderRecord {
  std::uint64_t inode = 0;
  std::uint16_t rec_len = 0;
  std::uint8_t name_len = 0, file_type = 0;
  static constexpr auto layout =
      little_endian(field("inode", &FolderRecord::inode), field("rec_len", &FolderRecord::rec_len),
                    field("name_len", &FolderRecord::name_len), field("file_type", &FolderRecord::file_type));
};

/// The current tree, or a folder with a tree for each checkpoint. NodeRef: inode and checkpoint; inode 0 is
/// that folder.
class NilfsContainer final : public FileTree {
 public:
  NilfsContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits),
        size_(image->size()),
        volume_(std::move(image),
                [this](Finding::Level level, std::string text) { add_finding(level, std::move(text)); }),
        view_(context.view) {
    compare_sizes(*this, size_, volume_.super().dev_size);
  }

  Facts facts() override {
    const Superblock& s = volume_.super();
    Facts out;
    std::string_view label = until_zero(as_text(s.volume_name));
    if (!label.empty()) out.emplace_back("label", escape(label));
    out.emplace_back("uuid", uuid_text(s.uuid));
    out.emplace_back("capacity", size_fact(s.dev_size));
    std::uint64_t free = std::min(s.free_blocks_count, s.dev_size / s.block()) * s.block();
    out.emplace_back("used", size_fact(s.dev_size - free));
    out.emplace_back("free", size_fact(free));
    out.emplace_back("block", fmt::format("{} bytes", s.block()));
    out.emplace_back("made", to_text(from_unix(static_cast<std::int64_t>(s.ctime))));
    std::uint64_t all = 0, snapshots = 0;
    volume_.checkpoints([&](const Checkpoint& one) {
      ++all;
      snapshots += one.is_snapshot() ? 1 : 0;
    });
    out.emplace_back("checkpoints",
                     fmt::format("{}, {} of them snapshots; --view checkpoints shows each", all, snapshots));
    return out;
  }

 protected:
  NodeRef root() override {
    return view_.empty() || view_ == kCurrent ? NodeRef{kRootInode, volume_.newest()} : NodeRef{};
  }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    if (folder.a == 0) return list_checkpoints(sink);
    Inode inode = volume_.inode(folder.a, folder.b);
    if (kind_of_mode(inode.mode) != EntryKind::folder)
      throw Malformed(fmt::format("inode {} is no folder", folder.a));
    if (inode.size > kLargestFolder)
      throw Malformed(fmt::format("inode {}: a folder of {} bytes is not possible", folder.a, inode.size));
    std::uint64_t block = volume_.super().block();
    SourcePtr data = volume_.data(inode);
    for (std::uint64_t at = 0; at < inode.size; at += block)
      list_block(read_up_to(*data, at, block), folder, sink);
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    return make_content(volume_.data(volume_.inode(ref.a, ref.b)));
  }

 private:
  void list_checkpoints(const TreeSink& sink) {
    volume_.checkpoints([&](const Checkpoint& one) {
      if (view_ == kSnapshots && !one.is_snapshot()) return;
      TreeItem item;
      item.entry.path = fmt::format("{}", one.cno);
      item.entry.kind = EntryKind::folder;
      item.entry.modified = from_unix(static_cast<std::int64_t>(one.create));
      if (one.is_snapshot()) item.entry.extras().comment = "snapshot";
      item.ref = {kRootInode, one.cno};
      sink(std::move(item));
    });
  }

  void list_block(ByteView block, NodeRef folder, const TreeSink& sink) {
    constexpr std::size_t kHead = size_on_disk<FolderRecord>;
    for (std::size_t at = 0; at + kHead <= block.size();) {
      FolderRecord record = read_structure<FolderRecord>(block.data() + at);
      std::size_t length = record.rec_len == 0xFFFF ? 65536 : record.rec_len;
      if (length < kHead || length > block.size() - at || record.name_len + kHead > length)
        throw Malformed(fmt::format("inode {}: a folder's record of {} bytes with a name of {} does not fit",
                                    folder.a, length, record.name_len));
      std::string_view name = as_text(block.subspan(at + kHead, record.name_len));
      at += length;
      if (record.inode == 0 || name == "." || name == "..") continue;
      TreeItem item;
      item.entry.path = std::string(name);
      item.ref = {record.inode, folder.b};
      if (auto kind = kind_of_type(record.file_type)) item.entry.kind = *kind;
      add_filled(std::move(item), sink,
                 [&](TreeItem& one) { fill(one, volume_.inode(record.inode, folder.b)); });
    }
  }

  void fill(TreeItem& item, const Inode& inode) {
    Entry& entry = item.entry;
    EntryExtra& extra = take_inode(
        entry, InodeFacts{.mode = inode.mode,
                          .uid = inode.uid,
                          .gid = inode.gid,
                          .modified = from_unix(static_cast<std::int64_t>(inode.mtime), inode.mtime_nsec),
                          .changed = from_unix(static_cast<std::int64_t>(inode.ctime), inode.ctime_nsec)});
    switch (entry.kind) {
      case EntryKind::file:
        take_size(entry, inode.size, inode.blocks, volume_.super().block());
        if (inode.links > 1 && item.ref.b == volume_.newest()) item.link_id = item.ref.a;
        break;
      case EntryKind::symbolic_link: {
        extra.link_target = link_target_in(*volume_.data(inode));
        extra.link_target.resize(extra.link_target.find_last_not_of('\0') + 1);
        break;
      }
      case EntryKind::character_device:
      case EntryKind::block_device:
        set_device(extra, read_structure<DeviceMap>(inode.bmap.data()).code);
        break;
      default:
        break;
    }
  }

  std::uint64_t size_;
  Volume volume_;
  std::string view_;
};

Match recognise_nilfs(Probe& probe) {
  Bytes raw = probe.at(1024, 1024);
  if (raw.size() < 1024 || read_field(&Superblock::magic, raw.data()) != kMagic) return Match::none;
  return match_superblock(probe, "NILFS2", [&] { read_superblock(raw); });
}

ContainerPtr open_nilfs(const Input& input, OpenContext& context) {
  return std::make_shared<NilfsContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format nilfs_format() {
  return {
      .id = "nilfs2",
      .name = "NILFS2 file system",
      .family = "file system",
      .specification = "Linux kernel, include/uapi/linux/nilfs2_ondisk.h and filesystems/nilfs2",
      .reads =
          "direct and B-tree maps, the newest checkpoint found by following the logs, checkpoints and "
          "snapshots as trees of their own, checksums of superblock, logs and super root, both superblocks",
      .lacks = "what was written behind the newest checkpoint",
      .suffixes = {".nilfs2"},
      .views = {kCurrent, kSnapshots, kCheckpoints},
      .recognise = recognise_nilfs,
      .open = open_nilfs,
      .records = {record_at<Superblock>("superblock", 1024)}};
}

}  // namespace operculum

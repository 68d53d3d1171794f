#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/text.h"
#include "format/filesystem/btrfs_volume.h"
#include "format/filesystem/device_number.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/inode_entry.h"
#include "format/formats.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace btrfs;

constexpr std::uint64_t kLongestLink = 65536;

/// Subvolumes and snapshots are the folders that the file system shows them as. In a NodeRef `a` is an
/// inode's number and `b` that of its subvolume.
class BtrfsContainer final : public FileTree {
 public:
  BtrfsContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), volume_(std::move(image)) {
    const Superblock& super = volume_.super();
    compare_sizes(*this, volume_.image()->size(), super.device_bytes);
    if (super.log_root.at != 0)
      add_finding(Finding::Level::warning,
                  "it was not unmounted: its log holds changes that are not applied here; the newest files "
                  "may be missing");
    if (super.devices > 1)
      add_finding(Finding::Level::note,
                  fmt::format("it is device {} of {}; what has no copy on this one cannot be read",
                              super.device, super.devices));
    if (super.sum_type == 1 || super.sum_type == 3)
      add_finding(Finding::Level::note,
                  "its checksums are of a kind that is not compared here (xxhash64 or BLAKE2b)");
  }

  std::vector<std::pair<std::string, std::string>> facts() override {
    const Superblock& s = volume_.super();
    std::vector<std::pair<std::string, std::string>> out;
    if (!s.label.empty()) out.emplace_back("label", escape(s.label));
    out.emplace_back("uuid", uuid_text(s.fsid));
    out.emplace_back("capacity", size_fact(s.total_bytes));
    out.emplace_back("used", size_fact(s.bytes_used));
    out.emplace_back("free", size_fact(s.total_bytes - std::min(s.bytes_used, s.total_bytes)));
    out.emplace_back("generation", fmt::format("{}", s.generation));
    if (s.devices > 1)
      out.emplace_back("device", fmt::format("{} of {}, {}", s.device, s.devices, uuid_text(s.device_uuid)));
    return out;
  }

 protected:
  NodeRef root() override { return {kFirstFree, kFsTree}; }

  void list(NodeRef folder, Detail detail, const TreeSink& sink) override {
    const Tree& tree = tree_of(folder.b);
    volume_.each_item(
        tree, {folder.a, kDirIndex, 0}, {folder.a, kDirIndex, UINT64_MAX}, [&](const Item& found) {
          each_name(found.data, [&](const Named& named) { row(named, folder.b, detail, sink); });
          return true;
        });
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    const Tree& tree = tree_of(ref.b);
    return make_content(volume_.data(tree, volume_.inode(tree, ref.a)));
  }

 private:
  const Tree& tree_of(std::uint64_t subvolume) {
    std::lock_guard lock(mutex_);
    auto known = trees_.find(subvolume);
    if (known != trees_.end()) return known->second;
    auto tree = volume_.subvolume(subvolume);
    if (!tree) throw Malformed(fmt::format("btrfs: there is no subvolume {}", subvolume));
    return trees_.emplace(subvolume, *tree).first->second;
  }

  void row(const Named& named, std::uint64_t subvolume, Detail detail, const TreeSink& sink) {
    TreeItem item;
    item.entry.path = std::string(named.name);
    bool other = named.location.type == kRootItem;
    item.ref =
        other ? NodeRef{kFirstFree, named.location.objectid} : NodeRef{named.location.objectid, subvolume};
    if (auto kind = kind_of_type(named.type); kind && detail == Detail::paths) {
      item.entry.kind = *kind;
      return sink(std::move(item));
    }
    add_filled(std::move(item), sink, [&](TreeItem& one) {
      try {
        fill(one);
      } catch (const Unsupported& error) {
        throw Malformed(error.what());  // it lies on another device, as others in this folder do not
      }
    });
  }

  void fill(TreeItem& item) {
    const Tree& tree = tree_of(item.ref.b);
    Inode inode = volume_.inode(tree, item.ref.a);
    Entry& entry = item.entry;
    EntryExtra& extra = take_inode(entry, inode);
    volume_.each_item(
        tree, {inode.number, kXattrItem, 0}, {inode.number, kXattrItem, UINT64_MAX}, [&](const Item& found) {
          each_name(found.data,
                    [&](const Named& one) { extra.attributes.emplace_back(one.name, one.value); });
          return true;
        });
    switch (entry.kind) {
      case EntryKind::file:
        entry.size = inode.size;
        entry.stored_size = std::min(inode.size, inode.bytes);
        if (entry.stored_size < inode.size) entry.flags |= Entry::sparse;
        // Inodes are numbered by each subvolume for itself.
        if (inode.links > 1) item.link_id = inode.number ^ (item.ref.b << 40);
        break;
      case EntryKind::symbolic_link:
        extra.link_target = as_text(
            read_up_to(*volume_.data(tree, inode), 0, std::min<std::uint64_t>(inode.size, kLongestLink)));
        break;
      case EntryKind::character_device:
      case EntryKind::block_device:
        set_device(extra, static_cast<std::uint32_t>(inode.device));
        break;
      default:
        break;
    }
  }

  Volume volume_;
  std::mutex mutex_;  // guards what follows
  std::map<std::uint64_t, Tree> trees_;
};

Match recognise_btrfs(Probe& probe) {
  Bytes raw = probe.at(kSuperAt, kSuperSize);
  if (raw.size() < kSuperSize || as_text(raw).substr(64, 8) != "_BHRfS_M") return Match::none;
  try {
    read_superblock(raw);
    return Match::front;
  } catch (const Malformed& error) {
    probe.add_almost(fmt::format("btrfs, but {}", error.what()));
    return Match::none;
  }
}

ContainerPtr open_btrfs(const Input& input, OpenContext& context) {
  return std::make_shared<BtrfsContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format btrfs_format() {
  return {
      .id = "btrfs",
      .name = "btrfs file system",
      .family = "file system",
      .specification = "btrfs documentation, On-disk Format and Btree Items",
      .reads =
          "subvolumes and snapshots as folders; inline and other extents, zlib, LZO and zstd; reflinks, "
          "holes; "
          "extended attributes; profiles single, DUP and RAID1; checksums of the metadata (crc32c, sha256)",
      .lacks = "several devices put together; checksums of data; xxhash64 and BLAKE2b; replaying the log",
      .suffixes = {".btrfs"},
      .recognise = recognise_btrfs,
      .open = open_btrfs};
}

}  // namespace operculum

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/btrfs_volume.h"
#include "format/filesystem/device_number.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/inode_entry.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace btrfs;

constexpr std::uint64_t kLongestLink = 65536;
constexpr std::string_view kCurrent = "current", kSnapshots = "snapshots";

/// This device and those of the same file system beside it; of each the newest state.
struct Pool {
  Devices devices;
  Superblock newest;
  std::vector<std::uint64_t> stale;  ///< devices that missed what others have
};

Superblock superblock_of(const Source& device) {
  return read_superblock(read_exactly(device, kSuperAt, kSuperSize, "btrfs superblock"));
}

Pool find_devices(const Input& input, const SourcePtr& own, const Superblock& first) {
  std::map<std::uint64_t, std::pair<Superblock, SourcePtr>> found = {{first.device, {first, own}}};
  if (first.devices > 1) {
    input.sibling.each([&](const Candidate&, const SourcePtr& file) {
      Superblock super = superblock_of(*file);
      if (super.fsid != first.fsid) return true;
      auto& place = found[super.device];
      if (!place.second || place.first.generation < super.generation) place = {std::move(super), file};
      return true;
    });
  }
  Pool out;
  out.newest = first;
  for (const auto& [number, one] : found)
    if (one.first.generation > out.newest.generation) out.newest = one.first;
  for (const auto& [number, one] : found) {
    if (one.first.generation + 1 < out.newest.generation) {
      out.stale.push_back(number);  // what is read of it may be of another time; checksums tell
    }
    out.devices.emplace(number, one.second);
  }
  return out;
}

/// Subvolumes and snapshots are the folders that the file system shows them as, or all snapshots beside each
/// other. In a NodeRef `a` is an inode's number and `b` that of its subvolume; 0 and 0 are the folder of
/// snapshots.
class BtrfsContainer final : public FileTree {
 public:
  BtrfsContainer(const Superblock& own, std::uint64_t size, const Pool& pool, OpenContext& context)
      : FileTree(context.limits),
        own_(own),
        there_(pool.devices.size()),
        volume_(std::make_shared<Volume>(pool.newest, pool.devices)),
        view_(context.view) {
    const Superblock& super = volume_->super();
    compare_sizes(*this, size, own.device_bytes);
    if (super.log_root.at != 0)
      add_finding(Finding::Level::warning,
                  "it was not unmounted: its log holds changes that are not applied here; the newest files "
                  "may be missing");
    if (there_ < super.devices)
      add_finding(
          Finding::Level::warning,
          fmt::format(
              "{} of its {} devices are beside this one (file system {}): what has no copy or parity on "
              "them cannot be read; put the others there",
              there_, super.devices, uuid_text(super.fsid)));
    for (std::uint64_t number : pool.stale)
      add_finding(
          Finding::Level::warning,
          fmt::format("device {} is older than the others: what is read of it may be out of date", number));
  }

  Facts facts() override {
    const Superblock& s = volume_->super();
    Facts out;
    if (!s.label.empty()) out.emplace_back("label", escape(s.label));
    out.emplace_back("uuid", uuid_text(s.fsid));
    out.emplace_back("capacity", size_fact(s.total_bytes));
    out.emplace_back("used", size_fact(s.bytes_used));
    out.emplace_back("free", size_fact(s.total_bytes - std::min(s.bytes_used, s.total_bytes)));
    out.emplace_back("generation", fmt::format("{}", s.generation));
    if (s.devices > 1)
      out.emplace_back("device",
                       fmt::format("{} of {}, {}", own_.device, s.devices, uuid_text(own_.device_uuid)));
    if (s.devices > 1) out.emplace_back("devices", fmt::format("{} of {}", there_, s.devices));
    std::size_t snapshots = 0;
    try {
      volume_->snapshots([&](const Snapshot&) { ++snapshots; });
    } catch (const Malformed&) {  // told by whoever lists them
    }
    if (snapshots > 0)
      out.emplace_back("snapshots", fmt::format("{}; --view snapshots shows them", snapshots));
    return out;
  }

 protected:
  NodeRef root() override {
    return view_.empty() || view_ == kCurrent ? NodeRef{kFirstFree, kFsTree} : NodeRef{};
  }

  void list(NodeRef folder, Detail detail, const TreeSink& sink) override {
    if (folder.b == 0) return list_snapshots(sink);
    const Tree& tree = tree_of(folder.b);
    volume_->each_item(
        tree, {folder.a, dir_index, 0}, {folder.a, dir_index, UINT64_MAX}, [&](const Item& found) {
          each_name(found.data, [&](const Named& named) { row(named, folder.b, detail, sink); });
          return true;
        });
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    const Tree& tree = tree_of(ref.b);
    return make_content(volume_->data(tree, volume_->inode(tree, ref.a)));
  }

 private:
  void list_snapshots(const TreeSink& sink) {
    volume_->snapshots([&](const Snapshot& one) {
      TreeItem item;
      item.entry.path = fmt::format("{}-{}", one.number, one.name);
      item.entry.kind = EntryKind::folder;
      item.entry.modified = one.made;
      item.entry.extras().comment = one.read_only ? "read-only snapshot" : "snapshot";
      item.ref = {kFirstFree, one.number};
      sink(std::move(item));
    });
  }

  const Tree& tree_of(std::uint64_t subvolume) {
    std::lock_guard lock(mutex_);
    auto known = trees_.find(subvolume);
    if (known != trees_.end()) return known->second;
    auto tree = volume_->subvolume(subvolume);
    if (!tree) throw Malformed(fmt::format("btrfs: there is no subvolume {}", subvolume));
    return trees_.emplace(subvolume, *tree).first->second;
  }

  void row(const Named& named, std::uint64_t subvolume, Detail detail, const TreeSink& sink) {
    TreeItem item;
    item.entry.path = std::string(named.name);
    bool other = named.location.type == root_item;
    item.ref =
        other ? NodeRef{kFirstFree, named.location.objectid} : NodeRef{named.location.objectid, subvolume};
    if (auto kind = kind_of_type(named.type); kind && detail == Detail::paths) {
      item.entry.kind = *kind;
      return sink(std::move(item));
    }
    add_filled(std::move(item), sink, [&](TreeItem& one) { fill(one); });
  }

  void fill(TreeItem& item) {
    const Tree& tree = tree_of(item.ref.b);
    Inode inode = volume_->inode(tree, item.ref.a);
    Entry& entry = item.entry;
    EntryExtra& extra = take_inode(entry, inode);
    volume_->each_item(
        tree, {inode.number, xattr_item, 0}, {inode.number, xattr_item, UINT64_MAX}, [&](const Item& found) {
          each_name(found.data,
                    [&](const Named& one) { extra.attributes.emplace_back(one.name, one.value); });
          return true;
        });
    switch (entry.kind) {
      case EntryKind::file:
        take_size(entry, inode.size, inode.bytes, 1);
        // Inodes are numbered by each subvolume for itself.
        if (inode.links > 1) item.link_id = inode.number ^ (item.ref.b << 40);
        break;
      case EntryKind::symbolic_link:
        extra.link_target = as_text(
            read_up_to(*volume_->data(tree, inode), 0, std::min<std::uint64_t>(inode.size, kLongestLink)));
        break;
      case EntryKind::character_device:
      case EntryKind::block_device:
        set_device(extra, static_cast<std::uint32_t>(inode.device));
        break;
      default:
        break;
    }
  }

  Superblock own_;
  std::size_t there_;
  std::shared_ptr<Volume> volume_;
  std::string view_;
  std::mutex mutex_;  // guards what follows
  std::map<std::uint64_t, Tree> trees_;
};

Match recognise_btrfs(Probe& probe) {
  Bytes raw = probe.at(kSuperAt, kSuperSize);
  if (raw.size() < kSuperSize || as_text(read_structure<SuperRecord>(raw.data()).magic) != kMagic)
    return Match::none;
  return match_superblock(probe, "btrfs", [&] { read_superblock(raw); });
}

ContainerPtr open_btrfs(const Input& input, OpenContext& context) {
  SourcePtr own = random_access(*input.content, context.spool);
  Superblock super = superblock_of(*own);
  return std::make_shared<BtrfsContainer>(super, own->size(), find_devices(input, own, super), context);
}

}  // namespace

Format btrfs_format() {
  return {.id = "btrfs",
          .name = "btrfs file system",
          .family = "file system",
          .specification = "btrfs documentation, On-disk Format and Btree Items",
          .reads =
              "subvolumes and snapshots as folders; inline and other extents, zlib, LZO and zstd; reflinks, "
              "holes; extended attributes; several devices, found beside it by their id, in all profiles "
              "(single, DUP, RAID0, "
              "RAID1 with up to four copies, RAID10, RAID5, RAID6; missing ones computed); checksums of "
              "metadata and data of all "
              "kinds, another copy read where one differs",
          .lacks = "replaying the log; backup superblocks; zoned devices with a RAID stripe tree",
          .suffixes = {".btrfs"},
          .views = {kCurrent, kSnapshots},
          .recognise = recognise_btrfs,
          .open = open_btrfs,
          .records = {record_at<SuperRecord>("superblock", kSuperAt)}};
}

}  // namespace operculum

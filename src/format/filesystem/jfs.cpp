#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/device_number.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/inode_entry.h"
#include "format/filesystem/jfs_volume.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace jfs;

class JfsContainer final : public FileTree {
 public:
  JfsContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), size_(image->size()), volume_(std::move(image)) {
    compare_sizes(*this, size_, volume_.size());
    if (volume_.super().state != 0)  // FM_CLEAN
      add_finding(Finding::Level::warning,
                  "it was not unmounted: its journal holds changes that are not applied here; the newest "
                  "files may be "
                  "missing");
  }

  Facts facts() override {
    const Superblock& s = volume_.super();
    Facts out;
    std::string_view label = s.version == 1 ? as_text(s.fpack) : as_text(s.label);
    label = trim(until_zero(label));
    if (!label.empty()) out.emplace_back("label", escape(label));
    if (s.version > 1) out.emplace_back("uuid", uuid_text(s.uuid));
    out.emplace_back("capacity", size_fact(volume_.size()));
    out.emplace_back("block", fmt::format("{} bytes", s.bsize));
    return out;
  }

 protected:
  NodeRef root() override { return {kRootInode}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    Inode inode = volume_.inode(folder.a);
    if (kind_of_mode(inode.mode & 0xFFFF) != EntryKind::folder)
      throw Malformed(fmt::format("inode {} is no folder", folder.a));
    volume_.list_folder(inode, [&](FolderItem&& found) {
      TreeItem item;
      item.entry.path = std::move(found.name);
      item.ref = {found.inode};
      add_filled(std::move(item), sink, [&](TreeItem& one) { fill(one, volume_.inode(found.inode)); });
    });
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    return make_content(volume_.data(volume_.inode(ref.a)));
  }

  bool same_name(std::string_view stored, std::string_view wanted) const override {
    return stored == wanted || (volume_.super().from_os2() && to_lower(stored) == to_lower(wanted));
  }

 private:
  void fill(TreeItem& item, const Inode& inode) {
    Entry& entry = item.entry;
    EntryExtra& extra = take_inode(entry, InodeFacts{.mode = inode.mode & 0xFFFF,  // above: what OS/2 keeps
                                                     .uid = inode.uid,
                                                     .gid = inode.gid,
                                                     .modified = from_unix(inode.mtime, inode.mtime_nsec),
                                                     .accessed = from_unix(inode.atime, inode.atime_nsec),
                                                     .changed = from_unix(inode.ctime, inode.ctime_nsec),
                                                     .created = from_unix(inode.otime, inode.otime_nsec)});
    for (auto& attribute : volume_.attributes(inode)) extra.attributes.push_back(std::move(attribute));
    switch (entry.kind) {
      case EntryKind::file:
        take_size(entry, inode.size, inode.nblocks, volume_.super().bsize);
        if (inode.nlink > 1) item.link_id = item.ref.a;
        break;
      case EntryKind::symbolic_link:
        extra.link_target = volume_.link_target(inode);
        break;
      case EntryKind::character_device:
      case EntryKind::block_device: {
        constexpr std::size_t kDeviceAt = 256;
        set_device(extra, LittleFields(inode.whole, "JFS device").u32(kDeviceAt));
        break;
      }
      default:
        break;
    }
  }

  std::uint64_t size_;
  Volume volume_;
};

Match recognise_jfs(Probe& probe) {
  Bytes raw = probe.at(kSuperAt, 512);
  if (raw.size() < 512 || !starts_with(raw, "JFS1")) return Match::none;
  return match_superblock(probe, "JFS", [&] { read_superblock(raw); });
}

ContainerPtr open_jfs(const Input& input, OpenContext& context) {
  return std::make_shared<JfsContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format jfs_format() {
  return {
      .id = "jfs",
      .name = "JFS file system",
      .family = "file system",
      .specification = "JFS Layout (IBM, 2000); Linux kernel, fs/jfs",
      .reads =
          "extent trees, folder trees with and without an index, inline links, extended attributes, holes, "
          "all entry kinds",
      .lacks = "replaying the journal; the second superblock; the small inode table of OS/2's boot volumes",
      .suffixes = {".jfs"},
      .recognise = recognise_jfs,
      .open = open_jfs,
      .records = {record_at<Superblock>("superblock", kSuperAt)}};
}

}  // namespace operculum

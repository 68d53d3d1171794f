#include <fmt/format.h>

#include <algorithm>

#include "base/structure_fields.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/inode_entry.h"
#include "format/filesystem/xfs_records.h"
#include "format/filesystem/xfs_volume.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace xfs;

class XfsContainer final : public FileTree {
 public:
  XfsContainer(SourcePtr image, OpenContext& context) : FileTree(context.limits), volume_(std::move(image)) {
    const Superblock& super = volume_.super();
    compare_sizes(*this, volume_.image()->size(), super.dblocks * super.blocksize);
    if (super.needs_repair()) add_finding(Finding::Level::warning, "it is marked as needing a repair");
    if (super.inprogress != 0) add_finding(Finding::Level::warning, "it was not made to its end");
    if (!log_is_clean())
      add_finding(
          Finding::Level::warning,
          "it was not unmounted: its log holds changes that are not applied here; the newest files may be "
          "missing");
  }

  Facts facts() override {
    const Superblock& s = volume_.super();
    Facts out;
    std::string_view label = until_zero(as_text(s.fname));
    if (!label.empty()) out.emplace_back("label", escape(label));
    out.emplace_back("uuid", uuid_text(s.uuid));
    out.emplace_back("capacity", size_fact(s.dblocks * s.blocksize));
    std::uint64_t free = std::min(s.fdblocks, s.dblocks);
    out.emplace_back("used", size_fact((s.dblocks - free) * s.blocksize));
    out.emplace_back("free", size_fact(free * s.blocksize));
    out.emplace_back("block", fmt::format("{} bytes", s.blocksize));
    out.emplace_back("version", fmt::format("{}", s.versionnum & 15));
    return out;
  }

 protected:
  NodeRef root() override { return {volume_.super().rootino}; }

  void list(NodeRef folder, Detail detail, const TreeSink& sink) override {
    Inode inode = volume_.inode(folder.a);
    if (kind_of_mode(inode.mode) != EntryKind::folder)
      throw Malformed(fmt::format("inode {} is no folder", folder.a));
    list_folder(volume_, inode, [&](const FolderItem& found) {
      TreeItem item;
      item.ref = {found.inode};
      item.entry.path = std::string(found.name);
      if (auto kind = kind_of_type(found.type); kind && detail == Detail::paths) {
        item.entry.kind = *kind;
        return sink(std::move(item));
      }
      add_filled(std::move(item), sink, [&](TreeItem& one) { fill(one, volume_.inode(found.inode)); });
    });
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    Inode inode = volume_.inode(ref.a);
    if (!inode.wrong_sums.empty())
      add_finding(Finding::Level::fault,
                  fmt::format("inode {} does not fit its checksum{}", inode.number, inode.wrong_sums));
    return make_content(volume_.data(inode));
  }

  bool same_name(std::string_view stored, std::string_view wanted) const override {
    return stored == wanted || (volume_.super().ignores_case() && to_lower(stored) == to_lower(wanted));
  }

 private:
  bool log_is_clean() {
    try {
      return volume_.log_is_clean();
    } catch (const CutShort&) {
      return true;  // that the image is cut short is told
    } catch (const Malformed&) {
      return false;
    }
  }

  void fill(TreeItem& item, const Inode& inode) {
    Entry& entry = item.entry;
    EntryExtra& extra = take_inode(entry, inode);
    if (!inode.wrong_sums.empty()) {
      entry.flags |= Entry::damaged;
      add_finding(Finding::Level::fault,
                  fmt::format("inode {} does not fit its checksum{}", inode.number, inode.wrong_sums));
    }
    for (auto& attribute : volume_.attributes(inode)) extra.attributes.push_back(std::move(attribute));
    switch (entry.kind) {
      case EntryKind::file:
        take_size(entry, inode.size, inode.blocks, volume_.super().blocksize);
        if (inode.links > 1) item.link_id = inode.number;
        break;
      case EntryKind::symbolic_link:
        extra.link_target = volume_.link_target(inode);
        break;
      case EntryKind::character_device:
      case EntryKind::block_device: {
        std::uint32_t device = structure_in<DeviceRecord>(inode.data, "XFS device").dev;
        extra.device_major = device >> 18;
        extra.device_minor = device & 0x3FFFF;
        break;
      }
      default:
        break;
    }
  }

  Volume volume_;
};

Match recognise_xfs(Probe& probe) {
  Bytes raw = probe.at(0, kLargestSector);
  if (raw.size() < 512 || !starts_with(raw, "XFSB")) return Match::none;
  return match_superblock(probe, "XFS", [&] { read_superblock(raw); });
}

ContainerPtr open_xfs(const Input& input, OpenContext& context) {
  return std::make_shared<XfsContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format xfs_format() {
  return {
      .id = "xfs",
      .name = "XFS file system",
      .family = "file system",
      .specification = "XFS Algorithms & Data Structures, 3rd edition",
      .reads =
          "versions 4 and 5; inline, extent and B+tree forks; folders of all forms; links; extended "
          "attributes, "
          "also large ones; reflinks, sparse inodes, large timestamps and counters; checksums of superblock, "
          "inodes, trees, folders and attributes; whether the log is clean",
      .lacks = "replaying the log; files on the real-time device; folders of version 1; backup superblocks",
      .suffixes = {".xfs"},
      .recognise = recognise_xfs,
      .open = open_xfs,
      .records = {record_at<Superblock>("superblock", 0)}};
}

}  // namespace operculum

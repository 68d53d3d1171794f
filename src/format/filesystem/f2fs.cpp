#include <fmt/format.h>

#include <algorithm>

#include "base/structure_fields.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/device_number.h"
#include "format/filesystem/f2fs_volume.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/inode_entry.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace f2fs;

constexpr std::uint32_t kFoldedFolder = 0x40000000;  // F2FS_CASEFOLD_FL

class F2fsContainer final : public FileTree {
 public:
  F2fsContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), volume_(std::move(image), [this](Finding::Level level, std::string text) {
          add_finding(level, std::move(text));
        }) {
    compare_sizes(*this, volume_.image()->size(), volume_.super().block_count * kBlock);
  }

  Facts facts() override {
    const Superblock& s = volume_.super();
    Facts out;
    std::string label = to_utf8(as_text(s.volume_name), "UTF-16LE").value_or("");
    label = until_zero(label);
    if (!label.empty()) out.emplace_back("label", escape(label));
    out.emplace_back("uuid", uuid_text(s.uuid));
    out.emplace_back("version", fmt::format("{}.{}", s.major_ver, s.minor_ver));
    out.emplace_back("capacity", size_fact(s.block_count * kBlock));
    std::uint64_t all = std::min(volume_.checkpoint().user_block_count, s.block_count),
                  used = std::min(volume_.checkpoint().valid_block_count, all);
    out.emplace_back("used", size_fact(used * kBlock));
    out.emplace_back("free", size_fact((all - used) * kBlock));
    out.emplace_back("block", fmt::format("{} bytes", kBlock));
    return out;
  }

 protected:
  NodeRef root() override { return {volume_.super().root_ino}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    Inode inode = volume_.inode(static_cast<std::uint32_t>(folder.a));
    if (kind_of_mode(inode.mode) != EntryKind::folder)
      throw Malformed(fmt::format("inode {} is no folder", folder.a));
    if ((inode.flags & kFoldedFolder) != 0) folded_ = true;
    bool hidden = inode.encrypted();  // names are of any bytes then
    if (hidden)
      add_finding(Finding::Level::note,
                  "some folders are encrypted (fscrypt): their names are shown in hexadecimal");
    volume_.list_folder(inode, [&](const FolderItem& found) {
      TreeItem item;
      item.entry.path = hidden ? to_hex(as_bytes(found.name)) : std::string(found.name);
      item.ref = {found.inode};
      if (auto kind = kind_of_type(found.type)) item.entry.kind = *kind;
      add_filled(std::move(item), sink, [&](TreeItem& one) { fill(one, volume_.inode(found.inode)); });
    });
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    return volume_.data(volume_.inode(static_cast<std::uint32_t>(ref.a)));
  }

  bool same_name(std::string_view stored, std::string_view wanted) const override {
    return stored == wanted || (folded_ && to_lower(stored) == to_lower(wanted));
  }

 private:
  void fill(TreeItem& item, const Inode& inode) {
    Entry& entry = item.entry;
    auto time = [](std::uint64_t seconds, std::uint32_t nanoseconds) {
      return from_unix(static_cast<std::int64_t>(seconds), nanoseconds);
    };
    EntryExtra& extra = take_inode(
        entry,
        InodeFacts{.mode = inode.mode,
                   .uid = inode.uid,
                   .gid = inode.gid,
                   .modified = time(inode.mtime, inode.mtime_nsec),
                   .accessed = time(inode.atime, inode.atime_nsec),
                   .changed = time(inode.ctime, inode.ctime_nsec),
                   .created = inode.crtime != 0 ? time(inode.crtime, inode.crtime_nsec) : Timestamp()});
    if (!inode.wrong_sums.empty()) {
      entry.flags |= Entry::damaged;
      add_finding(Finding::Level::fault,
                  fmt::format("inode {} does not fit its checksum{}", inode.number, inode.wrong_sums));
    }
    if (inode.encrypted()) entry.flags |= Entry::encrypted;
    for (auto& attribute : volume_.attributes(inode)) extra.attributes.push_back(std::move(attribute));
    switch (entry.kind) {
      case EntryKind::file:
        entry.size = inode.size;
        entry.stored_size =
            inode.is(inline_data_flag) ? inode.size : std::min(inode.size, blocks_of(inode) * kBlock);
        if (inode.packed()) entry.method = method_of(inode);
        if (entry.stored_size < inode.size && !inode.packed()) entry.flags |= Entry::sparse;
        if (inode.links > 1) item.link_id = inode.number;
        break;
      case EntryKind::symbolic_link:
        if (!inode.encrypted()) extra.link_target = volume_.link_target(inode);
        break;
      case EntryKind::character_device:
      case EntryKind::block_device: {
        auto pointers = structure_at<DevicePointers>(LittleFields(inode.node, "F2FS device"),
                                                     kInodePointersAt + inode.extra * 4);
        if (std::uint32_t old = pointers.old_encoded; old != 0) {
          extra.device_major = old >> 8 & 0xFF;
          extra.device_minor = old & 0xFF;
        } else {
          set_device(extra, pointers.new_encoded);
        }
        break;
      }
      default:
        break;
    }
  }

  /// Without the inode itself.
  static std::uint64_t blocks_of(const Inode& inode) {
    return std::min(inode.blocks, UINT64_MAX / kBlock) - (inode.blocks > 0 ? 1 : 0);
  }

  static std::string_view method_of(const Inode& inode) {
    constexpr std::string_view kNames[] = {"lzo", "lz4", "zstd", "lzo-rle"};
    return inode.compress_algorithm < std::size(kNames) ? kNames[inode.compress_algorithm] : "unknown";
  }

  Volume volume_;
  std::atomic<bool> folded_ = false;
};

Match recognise_f2fs(Probe& probe) {
  for (std::uint64_t at : {kSuperAt, kBlock + kSuperAt}) {
    Bytes raw = probe.at(at, size_on_disk<Superblock>);
    if (raw.size() < size_on_disk<Superblock> || read_field(&Superblock::magic, raw.data()) != kMagic)
      continue;
    Match match = match_superblock(probe, "F2FS", [&] {
      try {
        read_superblock(raw, at);
      } catch (const Unsupported&) {  // it is one, and opening says what it lacks
      }
    });
    if (match != Match::none) return match;
  }
  return Match::none;
}

ContainerPtr open_f2fs(const Input& input, OpenContext& context) {
  return std::make_shared<F2fsContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format f2fs_format() {
  return {.id = "f2fs",
          .name = "F2FS file system",
          .family = "file system",
          .specification = "Linux kernel, filesystems/f2fs and include/linux/f2fs_fs.h",
          .reads =
              "the newer of both checkpoints, the journal of node addresses, inline files, folders and "
              "attributes, "
              "files packed with LZO, LZ4 and Zstandard, extended attributes, checksums of checkpoints and "
              "inodes, "
              "the second superblock; encrypted files are named",
          .lacks =
              "files that are encrypted one by one, LZO-RLE, several devices, blocks of 16 and 64 KiB, "
              "what was written behind the newest checkpoint",
          .suffixes = {".f2fs"},
          .recognise = recognise_f2fs,
          .open = open_f2fs,
          .records = {record_at<Superblock>("superblock", kSuperAt)}};
}

}  // namespace operculum

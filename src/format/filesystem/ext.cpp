// ext2, ext3 and ext4, after the Linux kernel's documentation (filesystems/ext4) and its disk format headers.
#include <fmt/format.h>
#include <sys/sysmacros.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/fields.h"
#include "base/sum_text.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "container/rewrite.h"
#include "format/filesystem/device_number.h"
#include "format/filesystem/ext_rewrite.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/inode_entry.h"
#include "format/filesystem/new_tree.h"

namespace operculum {
namespace {

using namespace ext;

constexpr std::uint32_t kRootInode = 2;

class ExtContainer final : public FileTree {
 public:
  ExtContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), volume_(std::move(image), [this](Finding::Level level, std::string text) {
          add_finding(level, std::move(text));
        }) {
    const Superblock& super = volume_.super();
    compare_sizes(*this, volume_.image()->size(), super.blocks * super.block_size);
    if (super.has(recover_feature)) {
      add_finding(Finding::Level::warning,
                  "it was not unmounted: its journal holds changes that are not applied here; the newest "
                  "files may be missing");
    }
    constexpr std::uint16_t kHasErrors = 2;
    if ((super.state & kHasErrors) != 0)
      add_finding(Finding::Level::warning, "it is marked as having errors");
  }

  Facts facts() override {
    const Superblock& s = volume_.super();
    Facts out;
    if (!s.label.empty()) out.emplace_back("label", s.label);
    if (!s.uuid.empty()) out.emplace_back("uuid", uuid_text(s.uuid));
    out.emplace_back("capacity", size_fact(s.blocks * s.block_size));
    out.emplace_back("used", size_fact((s.blocks - std::min(s.free_blocks, s.blocks)) * s.block_size));
    out.emplace_back("free", size_fact(s.free_blocks * s.block_size));
    out.emplace_back("block", fmt::format("{} bytes", s.block_size));
    constexpr std::uint32_t kHasJournal = 4;
    out.emplace_back("version", s.has(extents_feature) || s.has(metadata_checksum_feature) ? "ext4"
                                : (s.compat & kHasJournal) != 0                            ? "ext3"
                                                                                           : "ext2");
    if (s.made.known()) out.emplace_back("made", to_text(s.made));
    if (!s.last_mounted.empty()) out.emplace_back("last mounted on", s.last_mounted);
    return out;
  }

  /// Other contents alone: what is added, goes or is renamed is not written.
  Assembly rewrite(const Changes& changes, const Writing& writing) override {
    if (changes.empty()) return unchanged(volume_.image());
    bool contents_alone = changes.removed.empty() && changes.renamed.empty() && changes.added.empty();
    if (!contents_alone)
      throw Unsupported(
          "adding, removing and renaming in an ext file system; other contents of files can be written");
    std::vector<NewContent> contents;
    for (const auto& [index, entry] : changes.replaced) {
      if (entry.kind != EntryKind::file) throw Unsupported("another target of a link in an ext file system");
      contents.push_back({static_cast<std::uint32_t>(ref_of(index).a), entries()[index].path, entry.content});
    }
    return ext::rewrite(volume_, contents, writing.spool);
  }

 protected:
  NodeRef root() override { return {kRootInode}; }

  void list(NodeRef folder, Detail detail, const TreeSink& sink) override {
    Inode inode = volume_.inode(static_cast<std::uint32_t>(folder.a));
    if ((inode.mode & 0xF000) != 0x4000) throw Malformed(fmt::format("inode {} is no folder", inode.number));
    bool sealed = inode.has(encrypted_flag);
    if (sealed)
      add_finding(Finding::Level::note,
                  "names and data in encrypted folders cannot be read without the system's key");
    Rows rows{inode, detail, sealed, sink};
    if (auto kept = volume_.inline_data(inode)) {
      constexpr std::size_t kParent = 4, kInBlock = 60;  // the first part begins with the parent's number
      ByteView all(*kept);
      rows_of(rows, all.subspan(kParent, kInBlock - kParent));
      return rows_of(rows, all.subspan(kInBlock));
    }
    if (inode.size > volume_.image()->size())
      throw Malformed(
          fmt::format("inode {}: a folder of {} bytes is larger than the image", inode.number, inode.size));
    SourcePtr data = volume_.data(inode);
    std::uint32_t block_size = volume_.super().block_size;
    std::string wrong;
    for (std::uint64_t at = 0; at < inode.size; at += block_size) {
      Bytes block = read_up_to(*data, at, block_size);
      try {
        check_sum(inode, block, at == 0);
        rows_of(rows, block);
      } catch (const Malformed& error) {
        wrong = error.what();  // the next block stands for itself
      }
      if (block.size() < block_size) break;
    }
    if (!wrong.empty()) throw Malformed(wrong);
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    Inode inode = volume_.inode(static_cast<std::uint32_t>(ref.a));
    if (inode.has(encrypted_flag)) throw Unsupported("files encrypted by the file system");
    if (!inode.wrong_sums.empty())
      add_finding(Finding::Level::fault,
                  fmt::format("inode {} does not fit its checksum{}", inode.number, inode.wrong_sums));
    return make_content(volume_.data(inode));
  }

 private:
  struct Rows {
    const Inode& folder;
    Detail detail;
    bool sealed;
    const TreeSink& sink;
  };

  /// Blocks of entries end with a checksum in the shape of an entry; blocks of a folder's index, which look
  /// like empty ones, have theirs behind the room for the index.
  void check_sum(const Inode& folder, ByteView block, bool first) const {
    if (!volume_.super().has(metadata_checksum_feature) || block.size() < size_on_disk<FolderTail>) return;
    auto front = read_structure<FolderEntry>(block.data());
    bool root = first && folder.has(index_flag), node = front.inode == 0 && front.length == block.size();
    if (root || node) return check_index_sum(folder, block, root ? kRootCountsAt : kNodeCountsAt);
    ByteView summed = block.first(block.size() - size_on_disk<FolderTail>);
    auto tail = read_structure<FolderTail>(summed.data() + summed.size());
    if (tail.inode != 0 || tail.length != size_on_disk<FolderTail> || tail.type != FolderTail::kType)
      throw Malformed(fmt::format(
          "inode {}: a block of the folder lacks the mark of its checksum, which could not be compared",
          folder.number));
    if (std::uint32_t own = crc32c(volume_.seed_of(folder), summed); !sum_fits(own, tail.checksum))
      throw Malformed(fmt::format("inode {}: a block of the folder does not fit its checksum{}",
                                  folder.number, told_sums(tail.checksum, own)));
  }

  void check_index_sum(const Inode& folder, ByteView block, std::size_t counts_at) const {
    LittleFields bytes(block, "ext folder index");
    auto counts = read_structure<IndexCounts>(bytes.bytes(counts_at, size_on_disk<IndexCounts>).data());
    std::size_t used = counts_at + std::size_t{std::min(counts.count, counts.limit)} * kIndexRowSize;
    std::size_t tail_at = counts_at + std::size_t{counts.limit} * kIndexRowSize;
    auto tail = read_structure<IndexTail>(bytes.bytes(tail_at, size_on_disk<IndexTail>).data());
    Bytes summed(block.begin(), block.begin() + static_cast<std::ptrdiff_t>(used));
    append_structure(summed, IndexTail{tail.reserved, 0});
    if (std::uint32_t own = crc32c(volume_.seed_of(folder), summed); !sum_fits(own, tail.checksum))
      throw Malformed(fmt::format("inode {}: a block of the folder's index does not fit its checksum{}",
                                  folder.number, told_sums(tail.checksum, own)));
  }

  void rows_of(const Rows& rows, ByteView block) {
    constexpr std::size_t kHead = size_on_disk<FolderEntry>;
    for (std::size_t at = 0; at + kHead <= block.size();) {
      auto entry = read_structure<FolderEntry>(block.data() + at);
      std::size_t length = (entry.length & 0xFFFC) | ((entry.length & 3) << 16);
      if (length == 0 || length == 0xFFFC) length = block.size() - at;  // a block of 64 KiB in 16 bits
      if (length < kHead || length > block.size() - at || entry.name_length + kHead > length) {
        throw Malformed(fmt::format("inode {}: folder entry at byte {} has the impossible length {}",
                                    rows.folder.number, at, length));
      }
      std::string_view name = as_text(block.subspan(at + kHead, entry.name_length));
      bool typed = volume_.super().has(file_type_feature);
      if (entry.inode != 0 && name != "." && name != "..")
        row(rows, entry.inode, name, typed ? entry.type & 15 : 0);
      at += length;
    }
  }

  void row(const Rows& rows, std::uint32_t number, std::string_view name, unsigned type) {
    TreeItem item;
    item.ref = {number};
    item.entry.path = rows.sealed ? "encrypted-" + to_hex(as_bytes(name.substr(0, 16))) : std::string(name);
    if (auto kind = kind_of_type(type); kind && rows.detail == Detail::paths) {
      item.entry.kind = *kind;
      return rows.sink(std::move(item));
    }
    add_filled(std::move(item), rows.sink, [&](TreeItem& one) { fill(one, volume_.inode(number)); });
  }

  void fill(TreeItem& item, const Inode& inode) {
    Entry& entry = item.entry;
    EntryExtra& extra = take_inode(entry, inode);
    if (!inode.wrong_sums.empty()) {
      entry.flags |= Entry::damaged;
      add_finding(Finding::Level::fault,
                  fmt::format("inode {} does not fit its checksum{}", inode.number, inode.wrong_sums));
    }
    if (inode.has(encrypted_flag)) entry.flags |= Entry::encrypted;
    for (auto& [name, value] : volume_.attributes(inode)) {
      if (name != "system.data") extra.attributes.emplace_back(std::move(name), std::move(value));
    }
    switch (entry.kind) {
      case EntryKind::file:
        entry.size = inode.size;
        entry.stored_size = inode.has(inline_data_flag) ? inode.size : inode.allocated;
        if (entry.stored_size < inode.size) entry.flags |= Entry::sparse;
        entry.stored_size = std::min(entry.stored_size, inode.size);
        if (inode.links > 1) item.link_id = inode.number;
        break;
      case EntryKind::symbolic_link:
        if (!inode.has(encrypted_flag))
          extra.link_target =
              as_text(read_up_to(*volume_.data(inode), 0, std::min<std::uint64_t>(inode.size, 65536)));
        break;
      case EntryKind::character_device:
      case EntryKind::block_device: {
        auto device = read_structure<DeviceRecord>(inode.block.data());
        set_device(extra, device.old_encoded != 0 ? device.old_encoded & 0xFFFF : device.new_encoded);
        break;
      }
      default:
        break;
    }
  }

  Volume volume_;
};

Match recognise_ext(Probe& probe) {
  Bytes raw = probe.at(kSuperAt, kSuperSize);
  if (raw.size() < kSuperSize || read_field(&SuperRecord::magic, raw.data()) != kMagic) return Match::none;
  try {
    read_superblock(raw);
    return Match::front;
  } catch (const Malformed&) {
    return Match::none;
  }
}

ContainerPtr open_ext(const Input& input, OpenContext& context) {
  return std::make_shared<ExtContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format ext_format() {
  return {.id = "ext",
          .name = "ext2/ext3/ext4 file system",
          .family = "file system",
          .specification = "Linux kernel documentation, filesystems/ext4",
          .reads =
              "extents and block maps; 64-bit and flexible groups, meta groups; inline data; checksums of "
              "superblock, "
              "groups, inodes, extents, folders and attributes; sparse files; extended attributes, also "
              "large ones; "
              "clusters (bigalloc); backup superblock",
          .lacks = "replaying the journal; contents of encrypted folders; the compression patch",
          .writes = "other contents of files that are there, in their blocks and in free ones",
          .suffixes = {".ext2", ".ext3", ".ext4"},
          .recognise = recognise_ext,
          .open = open_ext,
          .records = {record_at<SuperRecord>("superblock", kSuperAt)}};
}

}  // namespace operculum

// The boot file system of UnixWare and SCO OpenServer (BFS), after the structures that the Linux kernel
// publishes (include/uapi/linux/bfs_fs.h): a superblock, inodes of 64 bytes, then the files, each in one run
// of blocks of 512 bytes. The root is the only folder.
#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "base/structure.h"
#include "base/text.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/inode_entry.h"
#include "io/cached_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

constexpr std::uint32_t kMagic = 0x1BADFACE;
constexpr std::uint64_t kBlock = 512;
constexpr std::uint32_t kRootInode = 2, kFolderKind = 2;
constexpr std::size_t kRecord = 16;
constexpr std::uint64_t kMostInodes = 512;  ///< of mkfs

struct Superblock {
  std::uint32_t magic = 0, start = 0, end = 0;
  std::array<Byte, 6> fsname = {}, volume = {};
  static constexpr auto layout =
      little_endian(field("s_magic", &Superblock::magic), field("s_start", &Superblock::start),
                    field("s_end", &Superblock::end), from_byte<28>(), field("s_fsname", &Superblock::fsname),
                    field("s_volume", &Superblock::volume));
};

struct Inode {
  std::uint16_t number = 0;
  std::uint32_t sblock = 0, eblock = 0, eoffset = 0, kind = 0, mode = 0, uid = 0, gid = 0, nlink = 0,
                atime = 0, mtime = 0, ctime = 0;
  static constexpr std::size_t size = 64;
  static constexpr auto layout = little_endian(
      field("i_ino", &Inode::number), from_byte<4>(), field("i_sblock", &Inode::sblock),
      field("i_eblock", &Inode::eblock), field("i_eoffset", &Inode::eoffset), field("i_vtype", &Inode::kind),
      field("i_mode", &Inode::mode), field("i_uid", &Inode::uid), field("i_gid", &Inode::gid),
      field("i_nlink", &Inode::nlink), field("i_atime", &Inode::atime), field("i_mtime", &Inode::mtime),
      field("i_ctime", &Inode::ctime));

  std::uint64_t begin() const { return sblock * kBlock; }
  std::uint64_t length() const {
    return sblock == 0 || eoffset + 1ULL < begin() ? 0 : eoffset + 1ULL - begin();
  }
};

Superblock read_superblock(ByteView raw) {
  if (raw.size() < size_on_disk<Superblock>) throw CutShort("BFS superblock: the image is cut short");
  Superblock super = read_structure<Superblock>(raw.data());
  if (super.magic != kMagic) throw Malformed("BFS superblock: the magic is missing");
  if (super.start < kBlock + Inode::size || super.start >= super.end)
    refuse_field("BFS superblock", 0, &Superblock::start, fmt::format("between 576 and {}", super.end),
                 fmt::format("{}", super.start));
  return super;
}

class BfsContainer final : public FileTree {
 public:
  BfsContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), image_(std::move(image)), meta_(make_cached(image_)) {
    super_ = read_superblock(read_up_to(*image_, 0, size_on_disk<Superblock>));
    compare_sizes(*this, image_->size(), std::uint64_t{super_.end} + 1);
  }

  Facts facts() override {
    Facts out;
    std::string_view label = trim(until_zero(as_text(super_.volume)));
    if (!label.empty()) out.emplace_back("label", escape(label));
    out.emplace_back("capacity", size_fact(std::uint64_t{super_.end} + 1));
    return out;
  }

 protected:
  NodeRef root() override { return {kRootInode}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    Inode inode = read_inode(folder.a);
    if (inode.kind != kFolderKind) throw Malformed(fmt::format("inode {} is no folder", folder.a));
    Bytes records = read_up_to(*meta_, inode.begin(), std::min(inode.length(), kMostInodes * 64 * kRecord));
    for (std::size_t at = 0; at + kRecord <= records.size(); at += kRecord) {
      LittleFields f(records, "BFS folder");
      std::uint16_t number = f.u16(at);
      std::string_view name = f.text(at + 2, kRecord - 2);
      name = until_zero(name);
      if (number == 0 || name == "." || name == "..") continue;
      TreeItem item;
      item.entry.path = std::string(name);
      item.ref = {number};
      add_filled(std::move(item), sink, [&](TreeItem& one) {
        Inode own = read_inode(number);
        Entry& entry = one.entry;
        entry.kind = own.kind == kFolderKind ? EntryKind::folder : EntryKind::file;
        entry.size = entry.stored_size = own.length();
        entry.stored_at = own.begin();
        entry.mode = own.mode & 07777;
        entry.modified = from_unix(own.mtime);
        EntryExtra& extra = entry.extras();
        extra.user_id = own.uid;
        extra.group_id = own.gid;
        extra.accessed = from_unix(own.atime);
        extra.changed = from_unix(own.ctime);
        if (own.nlink > 1) one.link_id = number;
      });
    }
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    Inode inode = read_inode(ref.a);
    if (inode.begin() + inode.length() > image_->size())
      throw CutShort(fmt::format("BFS file at offset {}: {} bytes are missing; the image is cut short",
                                 inode.begin(), inode.begin() + inode.length() - image_->size()));
    return make_content(make_slice(image_, inode.begin(), inode.length()));
  }

 private:
  Inode read_inode(std::uint64_t number) const {
    std::uint64_t count = (super_.start - kBlock) / Inode::size;
    if (number < kRootInode || number - kRootInode >= count)
      throw Malformed(fmt::format("inode {} is not one of the file system's {}", number, count));
    std::uint64_t at = kBlock + (number - kRootInode) * Inode::size;
    Inode inode = read_structure<Inode>(read_exactly(*meta_, at, Inode::size, "BFS inode").data());
    if (inode.number != number)
      throw Malformed(
          fmt::format("BFS inode at offset {}: expected i_ino to be {}, found {}", at, number, inode.number));
    return inode;
  }

  SourcePtr image_, meta_;
  Superblock super_;
};

Match recognise_bfs(Probe& probe) {
  ByteView head = probe.head(size_on_disk<Superblock>);
  if (head.size() < size_on_disk<Superblock> || read_field(&Superblock::magic, head.data()) != kMagic)
    return Match::none;
  try {
    read_superblock(head);
    return Match::front;
  } catch (const Malformed&) {
    return Match::none;
  }
}

ContainerPtr open_bfs(const Input& input, OpenContext& context) {
  return std::make_shared<BfsContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format bfs_format() {
  return {.id = "bfs",
          .name = "BFS boot file system",
          .family = "file system",
          .specification = "Linux kernel, include/uapi/linux/bfs_fs.h",
          .reads = "all files, owners, modes and times",
          .lacks = "",
          .suffixes = {".bfs"},
          .recognise = recognise_bfs,
          .open = open_bfs};
}

}  // namespace operculum

// UFS, the Berkeley fast file system, versions 1 and 2, in either byte order: after M. McKusick, W. Joy, S.
// Leffler and R. Fabry, "A Fast File System for UNIX" (1984), and the structures that FreeBSD publishes
// (sys/ufs/ffs/fs.h, ufs/dinode.h, ufs/dir.h).
//
// The disk is cut into cylinder groups of fs_fpg fragments; each begins with a copy of the superblock and
// holds its share of the inodes. Block pointers count fragments; a file's last block may be a few fragments
// only. An inode has twelve pointers and three trees of pointers.
#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/checked.h"
#include "base/structure.h"
#include "base/text.h"
#include "container/probe_reader.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/indirect_blocks.h"
#include "format/filesystem/inode_entry.h"
#include "io/cached_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

/// SBLOCKSEARCH: where a superblock may lie; UFS2 first.
constexpr std::uint64_t kSuperPlaces[] = {65536, 8192, 0, 262144};
constexpr std::size_t kSuperSize = 1376, kFirstOfUfs1 = 8192;
constexpr std::uint32_t kMagic1 = 0x011954, kMagic2 = 0x19540119, kRootInode = 2;
constexpr std::uint32_t kFormat44 = 2;  ///< FS_44INODEFMT: ids of 32 bits, folders tell types
constexpr std::size_t kDirect = 12, kIndirect = 3, kFolderBlock = 512;
constexpr std::uint64_t kLargestFolder = 256 << 20;  // bytes

/// struct fs, as far as it is needed to read.
struct Super {
  std::uint32_t sblkno = 0, cblkno = 0, iblkno = 0, dblkno = 0, old_cgoffset = 0, old_cgmask = 0,
                old_size = 0, ncg = 0, bsize = 0, fsize = 0, frag = 0, old_nbfree = 0, old_nffree = 0,
                ipg = 0, fpg = 0;
  std::uint8_t clean = 0;
  std::array<Byte, 32> volname = {};
  std::uint64_t sblockloc = 0, nbfree = 0, nffree = 0, size = 0;
  std::uint32_t maxsymlinklen = 0, old_inodefmt = 0, magic = 0;
  static constexpr auto layout = little_endian(
      from_byte<8>(), field("fs_sblkno", &Super::sblkno), field("fs_cblkno", &Super::cblkno),
      field("fs_iblkno", &Super::iblkno), field("fs_dblkno", &Super::dblkno),
      field("fs_old_cgoffset", &Super::old_cgoffset), field("fs_old_cgmask", &Super::old_cgmask),
      from_byte<36>(), field("fs_old_size", &Super::old_size), from_byte<44>(), field("fs_ncg", &Super::ncg),
      field("fs_bsize", &Super::bsize), field("fs_fsize", &Super::fsize), field("fs_frag", &Super::frag),
      from_byte<184>(), field("fs_ipg", &Super::ipg), field("fs_fpg", &Super::fpg), from_byte<196>(),
      field("cs_nbfree", &Super::old_nbfree), from_byte<204>(), field("cs_nffree", &Super::old_nffree),
      from_byte<209>(), field("fs_clean", &Super::clean), from_byte<680>(),
      field("fs_volname", &Super::volname), from_byte<1000>(), field("fs_sblockloc", &Super::sblockloc),
      from_byte<1016>(), field("fs_cstotal.cs_nbfree", &Super::nbfree), from_byte<1032>(),
      field("fs_cstotal.cs_nffree", &Super::nffree), from_byte<1080>(), field("fs_size", &Super::size),
      from_byte<1320>(), field("fs_maxsymlinklen", &Super::maxsymlinklen),
      field("fs_old_inodefmt", &Super::old_inodefmt), from_byte<1372>(), field("fs_magic", &Super::magic));

  bool second() const { return magic == kMagic2; }
  std::uint64_t fragments() const { return second() ? size : old_size; }
  std::uint64_t free_bytes() const {
    std::uint64_t blocks = second() ? nbfree : old_nbfree, rest = second() ? nffree : old_nffree;
    return std::min(blocks, fragments()) * bsize + std::min(rest, fragments()) * fsize;
  }
};

/// struct ufs1_dinode, but its pointers.
struct Dinode1 {
  std::uint16_t mode = 0, nlink = 0, old_uid = 0, old_gid = 0;
  std::uint64_t size = 0;
  std::uint32_t atime = 0, atimensec = 0, mtime = 0, mtimensec = 0, ctime = 0, ctimensec = 0, blocks = 0,
                uid = 0, gid = 0;
  static constexpr std::size_t pointers_at = 40, pointer_size = 4, size_with_pointers = 128;
  static constexpr auto layout = little_endian(
      field("di_mode", &Dinode1::mode), field("di_nlink", &Dinode1::nlink),
      field("di_ouid", &Dinode1::old_uid), field("di_ogid", &Dinode1::old_gid),
      field("di_size", &Dinode1::size), field("di_atime", &Dinode1::atime),
      field("di_atimensec", &Dinode1::atimensec), field("di_mtime", &Dinode1::mtime),
      field("di_mtimensec", &Dinode1::mtimensec), field("di_ctime", &Dinode1::ctime),
      field("di_ctimensec", &Dinode1::ctimensec), from_byte<104>(), field("di_blocks", &Dinode1::blocks),
      from_byte<112>(), field("di_uid", &Dinode1::uid), field("di_gid", &Dinode1::gid));
};

/// struct ufs2_dinode, but its pointers.
struct Dinode2 {
  std::uint16_t mode = 0, nlink = 0;
  std::uint32_t uid = 0, gid = 0;
  std::uint64_t size = 0, blocks = 0, atime = 0, mtime = 0, ctime = 0, birthtime = 0;
  std::uint32_t mtimensec = 0, atimensec = 0, ctimensec = 0, birthnsec = 0;
  static constexpr std::size_t pointers_at = 112, pointer_size = 8, size_with_pointers = 256;
  static constexpr auto layout =
      little_endian(field("di_mode", &Dinode2::mode), field("di_nlink", &Dinode2::nlink),
                    field("di_uid", &Dinode2::uid), field("di_gid", &Dinode2::gid), from_byte<16>(),
                    field("di_size", &Dinode2::size), field("di_blocks", &Dinode2::blocks),
                    field("di_atime", &Dinode2::atime), field("di_mtime", &Dinode2::mtime),
                    field("di_ctime", &Dinode2::ctime), field("di_birthtime", &Dinode2::birthtime),
                    field("di_mtimensec", &Dinode2::mtimensec), field("di_atimensec", &Dinode2::atimensec),
                    field("di_ctimensec", &Dinode2::ctimensec), field("di_birthnsec", &Dinode2::birthnsec));
};

/// struct direct, in front of the name. Before the format of 4.4BSD the name's length had 16 bits.
struct FolderRecord {
  std::uint32_t ino = 0;
  std::uint16_t reclen = 0;
  std::uint8_t type = 0, namlen = 0;
  static constexpr auto layout =
      little_endian(field("d_ino", &FolderRecord::ino), field("d_reclen", &FolderRecord::reclen),
                    field("d_type", &FolderRecord::type), field("d_namlen", &FolderRecord::namlen));
};

struct Found {
  Super super;
  std::endian order = std::endian::little;
  std::uint64_t at = 0;
};

void check(const Found& found) {
  const Super& s = found.super;
  auto power = [](std::uint32_t value, std::uint32_t least, std::uint32_t most) {
    return value >= least && value <= most && std::has_single_bit(value);
  };
  if (!power(s.fsize, 512, 65536))
    refuse_field("UFS superblock", found.at, &Super::fsize, "a power of two from 512 to 65536",
                 fmt::format("{}", s.fsize));
  if (!power(s.bsize, 4096, 65536) || s.bsize < s.fsize || s.bsize / s.fsize > 8)
    refuse_field("UFS superblock", found.at, &Super::bsize,
                 fmt::format("1 to 8 fragments of {} bytes", s.fsize), fmt::format("{}", s.bsize));
  if (s.ncg == 0 || s.ipg == 0 || s.fpg == 0)
    refuse_field("UFS superblock", found.at, &Super::ncg, "groups with inodes and fragments",
                 fmt::format("{} of {} and {}", s.ncg, s.ipg, s.fpg));
  if (s.fragments() / s.fpg > s.ncg || s.fragments() == 0)
    refuse_field("UFS superblock", found.at, &Super::size,
                 fmt::format("what {} groups of {} hold", s.ncg, s.fpg), fmt::format("{}", s.fragments()));
}

/// The superblock, where `read` finds one that makes sense; `wrong` says why the last one does not.
template <typename Read>
std::optional<Found> find_super(Read read, std::string& wrong) {
  for (std::uint64_t at : kSuperPlaces) {
    Bytes raw = read(at, kSuperSize);
    if (raw.size() < kSuperSize) continue;
    for (std::endian order : {std::endian::little, std::endian::big}) {
      Found found{read_structure<Super>(raw.data(), order), order, at};
      if (found.super.magic != kMagic1 && found.super.magic != kMagic2) continue;
      // what lies elsewhere is a copy: in UFS1 with large blocks the first copy is where UFS2 begins
      if (found.super.second() && found.super.sblockloc != at) continue;
      if (!found.super.second() && at > kFirstOfUfs1) continue;
      try {
        check(found);
        return found;
      } catch (const Malformed& error) {
        wrong = error.what();
      }
    }
  }
  return std::nullopt;
}

struct Inode {
  std::uint64_t number = 0, size = 0, blocks = 0;  ///< blocks: of 512 bytes
  std::uint32_t mode = 0, uid = 0, gid = 0, links = 0;
  Timestamp modified, accessed, changed, created;
  Bytes pointers;
};

class UfsContainer final : public FileTree {
 public:
  UfsContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), image_(std::move(image)), meta_(make_cached(image_)) {
    std::string wrong = "UFS: no superblock is where one may lie";
    auto found = find_super(
        [&](std::uint64_t at, std::size_t count) { return read_up_to(*image_, at, count); }, wrong);
    if (!found) throw Malformed(wrong);
    super_ = found->super;
    order_ = found->order;
    compare_sizes(*this, image_->size(), super_.fragments() * super_.fsize);
    if (super_.clean == 0)
      add_finding(Finding::Level::warning, "it was not unmounted: the newest files may be missing");
  }

  Facts facts() override {
    Facts out;
    std::string_view label = until_zero(as_text(super_.volname));
    if (super_.second() && !label.empty()) out.emplace_back("label", escape(label));
    std::uint64_t all = super_.fragments() * super_.fsize, free = std::min(super_.free_bytes(), all);
    out.emplace_back("version", super_.second() ? "UFS2" : "UFS1");
    out.emplace_back("byte order", order_ == std::endian::big ? "big-endian" : "little-endian");
    out.emplace_back("capacity", size_fact(all));
    out.emplace_back("used", size_fact(all - free));
    out.emplace_back("free", size_fact(free));
    out.emplace_back("block", fmt::format("{} bytes, fragments of {}", super_.bsize, super_.fsize));
    return out;
  }

 protected:
  NodeRef root() override { return {kRootInode}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    Inode inode = read_inode(folder.a);
    require_folder(inode, folder.a, inode.size, kLargestFolder);
    Bytes all = read_up_to(*data_of(inode), 0, inode.size);
    std::string wrong;
    for (std::size_t at = 0; at < all.size(); at += kFolderBlock) {
      try {
        list_block(ByteView(all).subspan(at, std::min(kFolderBlock, all.size() - at)), folder.a, sink);
      } catch (const Malformed& error) {
        wrong = error.what();
      }
    }
    if (!wrong.empty()) throw Malformed(wrong);
  }

  ContentPtr open(const Entry&, NodeRef ref) override { return make_content(data_of(read_inode(ref.a))); }

 private:
  void list_block(ByteView block, std::uint64_t folder, const TreeSink& sink) {
    constexpr std::size_t kHead = size_on_disk<FolderRecord>;
    for (std::size_t at = 0; at + kHead <= block.size();) {
      FolderRecord record = read_structure<FolderRecord>(block.data() + at, order_);
      bool old = !super_.second() && super_.old_inodefmt < kFormat44;
      std::size_t length =
          old ? std::size_t{order_ == std::endian::big ? record.namlen : record.type} : record.namlen;
      if (record.reclen < kHead || record.reclen > block.size() - at || record.reclen % 4 != 0 ||
          (record.ino != 0 && length + kHead > record.reclen))
        throw Malformed(fmt::format("inode {}: a folder's record of {} bytes with a name of {} does not fit",
                                    folder, record.reclen, length));
      std::string_view name = as_text(block.subspan(at + kHead, record.ino == 0 ? 0 : length));
      at += record.reclen;
      if (record.ino == 0 || name == "." || name == "..") continue;
      TreeItem item;
      item.entry.path = std::string(name);
      item.ref = {record.ino};
      add_filled(std::move(item), sink, [&](TreeItem& one) { fill(one, read_inode(record.ino)); });
    }
  }

  std::uint64_t place_of(std::uint64_t fragment) const {
    if (fragment >= super_.fragments())
      throw Malformed(
          fmt::format("fragment {} is not one of the file system's {}", fragment, super_.fragments()));
    return fragment * super_.fsize;
  }

  Inode read_inode(std::uint64_t number) const {
    std::uint64_t count = std::uint64_t{super_.ncg} * super_.ipg, group = number / super_.ipg;
    if (number < kRootInode || number >= count)
      throw Malformed(fmt::format("inode {} is not one of the file system's {}", number, count));
    // cgstart and cgimin: in UFS1 each group may begin a little later than the one before
    std::uint64_t start = group * super_.fpg;
    if (!super_.second())
      start += std::uint64_t{super_.old_cgoffset} * (static_cast<std::uint32_t>(group) & ~super_.old_cgmask);
    std::size_t size = super_.second() ? Dinode2::size_with_pointers : Dinode1::size_with_pointers;
    std::uint64_t at = checked_add(checked_mul(start + super_.iblkno, super_.fsize, "an inode table"),
                                   number % super_.ipg * size, "an inode table");
    Bytes raw = read_exactly(*meta_, at, size, "UFS inode");
    return super_.second() ? second_inode(raw, number) : first_inode(raw, number);
  }

  Inode first_inode(ByteView raw, std::uint64_t number) const {
    Dinode1 d = read_structure<Dinode1>(raw.data(), order_);
    bool old = super_.old_inodefmt < kFormat44;
    auto time = [](std::uint32_t seconds, std::uint32_t nanoseconds) {
      return from_unix(static_cast<std::int32_t>(seconds), nanoseconds);
    };
    Inode out{.number = number,
              .size = d.size,
              .blocks = d.blocks,
              .mode = d.mode,
              .uid = old ? d.old_uid : d.uid,
              .gid = old ? d.old_gid : d.gid,
              .links = d.nlink,
              .modified = time(d.mtime, d.mtimensec),
              .accessed = time(d.atime, d.atimensec),
              .changed = time(d.ctime, d.ctimensec)};
    take_pointers<Dinode1>(out, raw);
    return out;
  }

  Inode second_inode(ByteView raw, std::uint64_t number) const {
    Dinode2 d = read_structure<Dinode2>(raw.data(), order_);
    auto time = [](std::uint64_t seconds, std::uint32_t nanoseconds) {
      return from_unix(static_cast<std::int64_t>(seconds), nanoseconds);
    };
    Inode out{.number = number,
              .size = d.size,
              .blocks = d.blocks,
              .mode = d.mode,
              .uid = d.uid,
              .gid = d.gid,
              .links = d.nlink,
              .modified = time(d.mtime, d.mtimensec),
              .accessed = time(d.atime, d.atimensec),
              .changed = time(d.ctime, d.ctimensec),
              .created = time(d.birthtime, d.birthnsec)};
    take_pointers<Dinode2>(out, raw);
    return out;
  }

  template <typename D>
  static void take_pointers(Inode& out, ByteView raw) {
    ByteView all = raw.subspan(D::pointers_at, (kDirect + kIndirect) * D::pointer_size);
    out.pointers.assign(all.begin(), all.end());
  }

  std::size_t pointer_size() const { return super_.second() ? Dinode2::pointer_size : Dinode1::pointer_size; }
  std::vector<std::uint64_t> numbers(ByteView raw) const { return pointers_in(raw, pointer_size(), order_); }

  SourcePtr data_of(const Inode& inode) const {
    IndirectBlocks blocks;
    std::vector<std::uint64_t> own = numbers(inode.pointers);
    blocks.direct.assign(own.begin(), own.begin() + kDirect);
    blocks.indirect.assign(own.begin() + kDirect, own.end());
    blocks.block_size = super_.bsize;
    blocks.pointers_in_block = super_.bsize / pointer_size();
    blocks.place = [this](std::uint64_t fragment) { return place_of(fragment); };
    blocks.read = [this](std::uint64_t at) {
      return numbers(read_exactly(*meta_, at, super_.bsize, "UFS block pointers"));
    };
    return make_extent_source(image_, extents_of(blocks, inode.size), inode.size);
  }

  void fill(TreeItem& item, const Inode& inode) {
    Entry& entry = item.entry;
    EntryExtra& extra = take_inode(entry, inode);
    switch (entry.kind) {
      case EntryKind::file:
        take_size(entry, inode.size, inode.blocks, 512);
        if (inode.links > 1) item.link_id = inode.number;
        break;
      case EntryKind::symbolic_link:
        if (inode.size < super_.maxsymlinklen || inode.blocks == 0) {
          std::size_t length =
              static_cast<std::size_t>(std::min<std::uint64_t>(inode.size, inode.pointers.size()));
          extra.link_target = as_text(ByteView(inode.pointers).first(length));
        } else {
          extra.link_target = link_target_in(*data_of(inode));
        }
        break;
      case EntryKind::character_device:
      case EntryKind::block_device: {
        auto device = static_cast<std::uint32_t>(numbers(inode.pointers)[0]);
        extra.device_major = device >> 8 & 0xFF;
        extra.device_minor = device & 0xFFFF00FF;
        break;
      }
      default:
        break;
    }
  }

  SourcePtr image_, meta_;
  Super super_;
  std::endian order_ = std::endian::little;
};

Match recognise_ufs(Probe& probe) {
  std::string wrong;
  if (find_super(reader_of(probe), wrong)) return Match::front;
  if (!wrong.empty()) probe.add_almost("UFS, but " + wrong);
  return Match::none;
}

ContainerPtr open_ufs(const Input& input, OpenContext& context) {
  return std::make_shared<UfsContainer>(random_access(*input.content, context.spool), context);
}

PlacedFields shown_super(Probe& probe) {
  std::string wrong;
  auto found = find_super(reader_of(probe), wrong);
  return found ? fields_at<Super>(probe, found->at, found->order) : PlacedFields{};
}

}  // namespace

Format ufs_format() {
  return {.id = "ufs",
          .name = "UFS file system",
          .family = "file system",
          .specification = "FreeBSD sys/ufs/ffs/fs.h and ufs/dinode.h",
          .reads =
              "UFS1 and UFS2 in both byte orders, fragments, folders of the old and the 4.4BSD form, short "
              "links, holes, all entry kinds",
          .lacks = "extended attributes, replaying a journal, snapshots, backup superblocks",
          .suffixes = {".ufs", ".ffs"},
          .recognise = recognise_ufs,
          .open = open_ufs,
          .records = {{"superblock", shown_super}}};
}

}  // namespace operculum

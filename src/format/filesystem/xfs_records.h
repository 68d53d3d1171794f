#pragma once

#include "base/structure.h"

/// The structures of XFS beside the superblock, with the names of its disk structures' document (3rd
/// edition). Version 5 ("v5", with checksums) has longer headers, which begin alike or state the same at
/// another place.
namespace operculum::xfs {

/// xfs_timestamp: seconds and nanoseconds; with XFS_DIFLAG2_BIGTIME one number, nanoseconds since 1901.
struct TimeRecord {
  std::uint32_t seconds = 0, nanoseconds = 0;
  std::uint64_t big() const { return std::uint64_t{seconds} << 32 | nanoseconds; }
};

/// xfs_dinode_core, and behind it what inodes of version 3 have (v5). In older ones other things lie there.
struct InodeRecord {
  std::uint16_t magic = 0, mode = 0;
  std::uint8_t version = 0, format = 0;
  std::uint16_t onlink = 0;
  std::uint32_t uid = 0, gid = 0, nlink = 0;
  std::uint64_t big_nextents = 0;
  std::uint32_t atime = 0, atime_nsec = 0, mtime = 0, mtime_nsec = 0, ctime = 0, ctime_nsec = 0;
  std::uint64_t size = 0, nblocks = 0;
  std::uint32_t nextents = 0;
  std::uint16_t anextents = 0;
  std::uint8_t forkoff = 0, aformat = 0;
  std::uint16_t flags = 0;
  static constexpr auto layout = big_endian(
      field("di_magic", &InodeRecord::magic), field("di_mode", &InodeRecord::mode),
      field("di_version", &InodeRecord::version), field("di_format", &InodeRecord::format),
      field("di_onlink", &InodeRecord::onlink), field("di_uid", &InodeRecord::uid),
      field("di_gid", &InodeRecord::gid), field("di_nlink", &InodeRecord::nlink), from_byte<24>(),
      field("di_big_nextents", &InodeRecord::big_nextents), field("di_atime.t_sec", &InodeRecord::atime),
      field("di_atime.t_nsec", &InodeRecord::atime_nsec), field("di_mtime.t_sec", &InodeRecord::mtime),
      field("di_mtime.t_nsec", &InodeRecord::mtime_nsec), field("di_ctime.t_sec", &InodeRecord::ctime),
      field("di_ctime.t_nsec", &InodeRecord::ctime_nsec), field("di_size", &InodeRecord::size),
      field("di_nblocks", &InodeRecord::nblocks), from_byte<76>(),
      field("di_nextents", &InodeRecord::nextents), field("di_anextents", &InodeRecord::anextents),
      field("di_forkoff", &InodeRecord::forkoff), field("di_aformat", &InodeRecord::aformat), from_byte<90>(),
      field("di_flags", &InodeRecord::flags));

  bool is_wide() const { return version >= 3; }
  TimeRecord accessed() const { return {atime, atime_nsec}; }
  TimeRecord modified() const { return {mtime, mtime_nsec}; }
  TimeRecord changed() const { return {ctime, ctime_nsec}; }
};
constexpr std::uint16_t kInodeMagic = 0x494E;  // "IN"
constexpr std::size_t inode_core_size = 100, inode_core_size5 = 176;

/// What follows from byte 100 on in an inode of version 3.
struct WideInodeRecord {
  std::array<Byte, 4> crc{};
  std::uint64_t flags2 = 0;
  std::uint32_t crtime = 0, crtime_nsec = 0;
  std::uint64_t ino = 0;
  static constexpr auto layout = big_endian(
      from_byte<100>(), field("di_crc", &WideInodeRecord::crc), from_byte<120>(),
      field("di_flags2", &WideInodeRecord::flags2), from_byte<144>(),
      field("di_crtime.t_sec", &WideInodeRecord::crtime),
      field("di_crtime.t_nsec", &WideInodeRecord::crtime_nsec), field("di_ino", &WideInodeRecord::ino));
  TimeRecord created() const { return {crtime, crtime_nsec}; }
};
/// Bits of di_flags.
enum InodeFlag : std::uint16_t { on_real_time_device = 1 };  ///< di_flags
/// Bits of di_flags2.
enum InodeFlag2 : std::uint64_t { big_time = 8, large_counts = 16 };  ///< di_flags2

/// xfs_bmbt_rec: from the highest bit on whether it was never written, offset in the file (54 bits), block
/// (52), count of blocks (21).
struct ExtentRecord {
  std::uint64_t l0 = 0, l1 = 0;
  static constexpr auto layout = big_endian(field("l0", &ExtentRecord::l0), field("l1", &ExtentRecord::l1));
  bool unwritten() const { return l0 >> 63 != 0; }
  std::uint64_t startoff() const { return (l0 >> 9) & ((std::uint64_t{1} << 54) - 1); }
  std::uint64_t startblock() const { return (l0 & 0x1FF) << 43 | l1 >> 21; }
  std::uint64_t blockcount() const { return l1 & 0x1FFFFF; }
};

/// A device's number, in place of a fork's data (xfs_dev_t).
struct DeviceRecord {
  std::uint32_t dev = 0;
  static constexpr auto layout = big_endian(field("di_rdev", &DeviceRecord::dev));
};

/// xfs_bmdr_block: the root of a tree of extents in an inode. Behind it room for keys, then for blocks.
struct TreeRootRecord {
  std::uint16_t level = 0, numrecs = 0;
  static constexpr auto layout =
      big_endian(field("bb_level", &TreeRootRecord::level), field("bb_numrecs", &TreeRootRecord::numrecs));
};

/// xfs_btree_lblock.
struct TreeBlockRecord {
  std::uint32_t magic = 0;
  std::uint16_t level = 0, numrecs = 0;
  static constexpr auto layout =
      big_endian(field("bb_magic", &TreeBlockRecord::magic), field("bb_level", &TreeBlockRecord::level),
                 field("bb_numrecs", &TreeBlockRecord::numrecs));
};
constexpr std::uint32_t kTreeMagic = 0x424D4150, kTreeMagic5 = 0x424D4133;  // "BMAP", "BMA3"
constexpr std::size_t tree_header_size = 24, tree_header_size5 = 72, tree_key_size = 8, tree_pointer_size = 8;

/// xfs_dsymlink_hdr, in front of each block of a link in version 5.
struct LinkRecord {
  std::uint32_t magic = 0;
  std::array<Byte, 4> crc{};
  static constexpr auto layout =
      big_endian(field("sl_magic", &LinkRecord::magic), from_byte<12>(), field("sl_crc", &LinkRecord::crc));
};
constexpr std::uint32_t kLinkMagic = 0x58534C4D;  // "XSLM"
constexpr std::size_t link_header_size = 56;

/// xlog_rec_header, in front of what was written to the log at once; any other sector of the log begins with
/// its cycle.
struct LogRecord {
  std::uint32_t magicno = 0, cycle = 0, num_logops = 0;
  static constexpr auto layout =
      big_endian(field("h_magicno", &LogRecord::magicno), field("h_cycle", &LogRecord::cycle),
                 from_byte<40>(), field("h_num_logops", &LogRecord::num_logops));
};
constexpr std::uint32_t kLogMagic = 0xFEEDBABE;

/// xlog_op_header.
struct LogOperation {
  std::uint8_t flags = 0;
  static constexpr auto layout = big_endian(from_byte<9>(), field("oh_flags", &LogOperation::flags));
};
/// Bits of oh_flags.
enum LogOperationFlag : std::uint8_t { unmount_transaction = 0x20 };

/// xfs_da_blkinfo, in front of each block of a tree of attributes.
struct AttributeBlock {
  std::uint32_t forw = 0;
  std::uint16_t magic = 0;
  static constexpr auto layout = big_endian(field("forw", &AttributeBlock::forw), from_byte<8>(),
                                            field("magic", &AttributeBlock::magic));
};
constexpr std::uint16_t kLeafMagic = 0xFBEE, kLeafMagic5 = 0x3BEE, kNodeMagic = 0xFEBE, kNodeMagic5 = 0x3EBE;
constexpr std::size_t node_header_size = 16, node_header_size5 = 64;
constexpr std::size_t leaf_header_size = 32, leaf_header_size5 = 80;

/// xfs_attr_leaf_hdr and xfs_attr3_leaf_hdr.
struct LeafRecord {
  std::uint16_t count = 0;
  static constexpr auto layout = big_endian(from_byte<12>(), field("hdr.count", &LeafRecord::count));
};
/// The same in version 5.
struct LeafRecord5 {
  std::array<Byte, 4> crc{};
  std::uint16_t count = 0;
  static constexpr auto layout = big_endian(from_byte<12>(), field("hdr.info.crc", &LeafRecord5::crc),
                                            from_byte<56>(), field("hdr.count", &LeafRecord5::count));
};

/// xfs_da_node_entry.
struct NodeEntry {
  std::uint32_t hashval = 0, before = 0;
  static constexpr auto layout =
      big_endian(field("hashval", &NodeEntry::hashval), field("before", &NodeEntry::before));
};

/// xfs_attr_leaf_entry.
struct LeafEntry {
  std::uint32_t hashval = 0;
  std::uint16_t nameidx = 0;
  std::uint8_t flags = 0, pad2 = 0;
  static constexpr auto layout =
      big_endian(field("hashval", &LeafEntry::hashval), field("nameidx", &LeafEntry::nameidx),
                 field("flags", &LeafEntry::flags), field("pad2", &LeafEntry::pad2));
};
/// Where an attribute lies, and in which name space.
enum AttributeFlag : std::uint8_t {
  attribute_local = 1,
  attribute_root = 2,
  attribute_secure = 4,
  attribute_parent = 8,
  attribute_incomplete = 0x80,
};

/// xfs_attr_leaf_name_local; name and value follow.
struct LocalAttribute {
  std::uint16_t valuelen = 0;
  std::uint8_t namelen = 0;
  static constexpr auto layout =
      big_endian(field("valuelen", &LocalAttribute::valuelen), field("namelen", &LocalAttribute::namelen));
};

/// xfs_attr_leaf_name_remote; the name follows, the value lies in blocks of the fork.
struct RemoteAttribute {
  std::uint32_t valueblk = 0, valuelen = 0;
  std::uint8_t namelen = 0;
  static constexpr auto layout =
      big_endian(field("valueblk", &RemoteAttribute::valueblk), field("valuelen", &RemoteAttribute::valuelen),
                 field("namelen", &RemoteAttribute::namelen));
};
constexpr std::size_t value_header_size = 56;

/// xfs_attr_shortform: attributes within the inode, each with its name and value behind it.
struct ShortAttributes {
  std::uint16_t totsize = 0;
  std::uint8_t count = 0, padding = 0;
  static constexpr auto layout =
      big_endian(field("totsize", &ShortAttributes::totsize), field("count", &ShortAttributes::count),
                 field("padding", &ShortAttributes::padding));
};
/// An attribute in an inode; name, then value follow.
struct ShortAttribute {
  std::uint8_t namelen = 0, valuelen = 0, flags = 0;
  static constexpr auto layout =
      big_endian(field("namelen", &ShortAttribute::namelen), field("valuelen", &ShortAttribute::valuelen),
                 field("flags", &ShortAttribute::flags));
};

/// xfs_dir2_sf_hdr: a folder within the inode. The parent's number follows, of eight bytes where i8count is
/// not zero, else of four; then of each name the structure, the name, its type, and its inode's number.
struct ShortFolder {
  std::uint8_t count = 0, i8count = 0;
  static constexpr auto layout =
      big_endian(field("count", &ShortFolder::count), field("i8count", &ShortFolder::i8count));
};
/// A name in an inode; it follows, then the inode's number.
struct ShortFolderEntry {
  std::uint8_t namelen = 0;
  std::uint16_t offset = 0;
  static constexpr auto layout =
      big_endian(field("namelen", &ShortFolderEntry::namelen), field("offset", &ShortFolderEntry::offset));
};

/// xfs_dir2_data_hdr and xfs_dir3_data_hdr.
struct FolderBlock {
  std::uint32_t magic = 0;
  std::array<Byte, 4> crc{};  ///< version 5
  static constexpr auto layout =
      big_endian(field("magic", &FolderBlock::magic), field("crc", &FolderBlock::crc));
};
constexpr std::uint32_t kBlockMagic = 0x58443242, kBlockMagic5 = 0x58444233;  // "XD2B", "XDB3": the only one
constexpr std::uint32_t kDataMagic = 0x58443244, kDataMagic5 = 0x58444433;  // "XD2D", "XDD3": one of several
constexpr std::size_t data_header_size = 16, data_header_size5 = 64;

/// xfs_dir2_block_tail: at the end of an only block, behind an index of the names.
struct FolderTail {
  std::uint32_t count = 0, stale = 0;
  static constexpr auto layout =
      big_endian(field("count", &FolderTail::count), field("stale", &FolderTail::stale));
};
constexpr std::size_t index_entry_size = 8;

/// xfs_dir2_data_unused.
struct FreeRoom {
  std::uint16_t freetag = 0, length = 0;
  static constexpr auto layout =
      big_endian(field("freetag", &FreeRoom::freetag), field("length", &FreeRoom::length));
};
constexpr std::uint16_t kFreeTag = 0xFFFF;

/// xfs_dir2_data_entry; the name follows, its type where the file system keeps types, and a tag of two bytes.
struct FolderEntry {
  std::uint64_t inumber = 0;
  std::uint8_t namelen = 0;
  static constexpr auto layout =
      big_endian(field("inumber", &FolderEntry::inumber), field("namelen", &FolderEntry::namelen));
};
constexpr std::size_t folder_tag_size = 2;

}  // namespace operculum::xfs

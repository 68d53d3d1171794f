#pragma once

#include <array>

#include "base/structure.h"

/// What JFS has on disk, after "JFS Layout" (IBM, 2000) and the structures that the Linux kernel publishes
/// (fs/jfs/jfs_superblock.h, jfs_dinode.h, jfs_types.h, jfs_xtree.h, jfs_dtree.h, jfs_xattr.h), with their
/// names.
///
/// An aggregate of blocks holds one file set. Inodes have 512 bytes and come in extents of 32. A few of the
/// aggregate's own lie at a fixed place; the sixteenth of them is the map of the file set's inodes: pages
/// ("inode allocation groups"), each with the places of 128 extents. Files are B+trees of extents (xtree),
/// folders B+trees of names (dtree), both with their root in the inode.
namespace operculum::jfs {

/// struct jfs_superblock.
struct Superblock {
  std::array<Byte, 4> magic = {};
  std::uint32_t version = 0;
  std::uint64_t size = 0;  ///< blocks of s_pbsize bytes
  std::uint32_t bsize = 0, pbsize = 0, agsize = 0, flag = 0, state = 0;
  std::array<Byte, 11> fpack = {};
  std::array<Byte, 16> uuid = {}, label = {};
  static constexpr auto layout = little_endian(
      field("s_magic", &Superblock::magic), field("s_version", &Superblock::version),
      field("s_size", &Superblock::size), field("s_bsize", &Superblock::bsize), from_byte<24>(),
      field("s_pbsize", &Superblock::pbsize), from_byte<32>(), field("s_agsize", &Superblock::agsize),
      field("s_flag", &Superblock::flag), field("s_state", &Superblock::state), from_byte<101>(),
      field("s_fpack", &Superblock::fpack), from_byte<136>(), field("s_uuid", &Superblock::uuid),
      field("s_label", &Superblock::label));

  bool has_index() const { return (flag & 0x00200000) != 0; }  ///< JFS_DIR_INDEX
  bool from_os2() const { return (flag & 0x40000000) != 0; }   ///< JFS_OS2
};

/// struct pxd: 24 bits of length and 40 of address, both in blocks; the address's upper 8 lie in len_addr.
struct BlockRun {
  std::uint32_t len_addr = 0, addr2 = 0;
  static constexpr auto layout =
      little_endian(field("len_addr", &BlockRun::len_addr), field("addr2", &BlockRun::addr2));
};

/// struct dxd: where an object lies, in front of a BlockRun.
struct DataPlace {
  std::uint8_t flag = 0;
  std::uint32_t size = 0;  ///< bytes
  static constexpr auto layout =
      little_endian(field("flag", &DataPlace::flag), from_byte<4>(), field("size", &DataPlace::size));
};

/// struct dinode.
struct Inode {
  std::uint32_t fileset = 0, number = 0, gen = 0;
  std::uint64_t size = 0, nblocks = 0;
  std::uint32_t nlink = 0, uid = 0, gid = 0, mode = 0, atime = 0, atime_nsec = 0, ctime = 0, ctime_nsec = 0,
                mtime = 0, mtime_nsec = 0, otime = 0, otime_nsec = 0;
  std::array<Byte, 16> ea = {};  ///< a DataPlace and its BlockRun: where the extended attributes lie
  static constexpr auto layout = little_endian(
      from_byte<4>(), field("di_fileset", &Inode::fileset), field("di_number", &Inode::number),
      field("di_gen", &Inode::gen), from_byte<24>(), field("di_size", &Inode::size),
      field("di_nblocks", &Inode::nblocks), field("di_nlink", &Inode::nlink), field("di_uid", &Inode::uid),
      field("di_gid", &Inode::gid), field("di_mode", &Inode::mode), field("di_atime.tv_sec", &Inode::atime),
      field("di_atime.tv_nsec", &Inode::atime_nsec), field("di_ctime.tv_sec", &Inode::ctime),
      field("di_ctime.tv_nsec", &Inode::ctime_nsec), field("di_mtime.tv_sec", &Inode::mtime),
      field("di_mtime.tv_nsec", &Inode::mtime_nsec), field("di_otime.tv_sec", &Inode::otime),
      field("di_otime.tv_nsec", &Inode::otime_nsec), from_byte<104>(), field("di_ea", &Inode::ea));
  Bytes whole;  ///< the 512 bytes
};

/// The head of a page of extents (xtpage_t), which takes the place of its first two entries.
struct ExtentPageHead {
  std::uint8_t flag = 0;
  std::uint16_t nextindex = 0;  ///< entries, with the two
  static constexpr auto layout =
      little_endian(from_byte<16>(), field("flag", &ExtentPageHead::flag), from_byte<18>(),
                    field("nextindex", &ExtentPageHead::nextindex));
};

/// struct xad: an extent of a file, or the page below; its BlockRun follows.
struct ExtentRow {
  std::uint8_t flag = 0, off1 = 0;
  std::uint32_t off2 = 0;  ///< with off1 in front: the first block within the file
  static constexpr auto layout =
      little_endian(field("flag", &ExtentRow::flag), from_byte<3>(), field("off1", &ExtentRow::off1),
                    field("off2", &ExtentRow::off2));
};

/// The head of a page of names (dtpage_t); a root in an inode (dtroot_t) has the first two at the same
/// places.
struct NamePageHead {
  std::uint8_t flag = 0, nextindex = 0, stblindex = 0;  ///< stblindex: the slot of the table of slots in use
  static constexpr auto layout = little_endian(from_byte<16>(), field("flag", &NamePageHead::flag),
                                               field("nextindex", &NamePageHead::nextindex), from_byte<21>(),
                                               field("stblindex", &NamePageHead::stblindex));
};

/// struct ldtentry: a name of a leaf; what NameSlot says of the length and of where it goes on follows.
struct LeafName {
  std::uint32_t inumber = 0;
  static constexpr auto layout = little_endian(field("inumber", &LeafName::inumber));
};

/// struct dtslot: a part of a name: the slot in which it goes on (signed), and how many units of UTF-16
/// follow: of the whole name in its first part.
struct NameSlot {
  std::uint8_t next = 0, cnt = 0;
  static constexpr auto layout = little_endian(field("next", &NameSlot::next), field("cnt", &NameSlot::cnt));
};

/// struct jfs_ea_list: the size of all extended attributes, itself included.
struct AttributeList {
  std::uint32_t size = 0;
  static constexpr auto layout = little_endian(field("size", &AttributeList::size));
};

/// struct jfs_ea: then the name with a zero, and the value.
struct AttributeHead {
  std::uint8_t flag = 0, namelen = 0;
  std::uint16_t valuelen = 0;
  static constexpr auto layout =
      little_endian(field("flag", &AttributeHead::flag), field("namelen", &AttributeHead::namelen),
                    field("valuelen", &AttributeHead::valuelen));
};

}  // namespace operculum::jfs

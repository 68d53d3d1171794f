#pragma once

#include <functional>
#include <unordered_set>

#include "base/structure.h"
#include "base/time.h"
#include "container/container.h"
#include "io/extent_source.h"

namespace operculum::jfs {

// JFS, after "JFS Layout" (IBM, 2000) and the structures that the Linux kernel publishes
// (fs/jfs/jfs_superblock.h, jfs_dinode.h, jfs_imap.h, jfs_xtree.h, jfs_dtree.h).
//
// An aggregate of blocks holds one file set. Inodes have 512 bytes and come in extents of 32. A few of the
// aggregate's own lie at a fixed place; the sixteenth of them is the map of the file set's inodes: pages
// ("inode allocation groups"), each with the places of 128 extents. Files are B+trees of extents (xtree),
// folders B+trees of names (dtree), both with their root in the inode.

constexpr std::uint64_t kSuperAt = 32768, kRootInode = 2;
constexpr std::size_t kInodeSize = 512, kPage = 4096, kTreeAt = 224, kSlot = 32;

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

/// struct dinode.
struct Inode {
  std::uint32_t fileset = 0, number = 0, gen = 0;
  std::uint64_t size = 0, nblocks = 0;
  std::uint32_t nlink = 0, uid = 0, gid = 0, mode = 0, atime = 0, atime_nsec = 0, ctime = 0, ctime_nsec = 0,
                mtime = 0, mtime_nsec = 0, otime = 0, otime_nsec = 0;
  std::array<Byte, 16> ea = {};  ///< a dxd: where the extended attributes lie
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

/// Throws Malformed unless the bytes are a superblock that makes sense.
Superblock read_superblock(ByteView raw);

/// A name in a folder.
struct FolderItem {
  std::string name;
  std::uint32_t inode = 0;
};

/// The structures of a JFS file system, read as they are wanted.
class Volume {
 public:
  explicit Volume(SourcePtr image);

  const Superblock& super() const { return super_; }
  std::uint64_t size() const { return super_.size * super_.pbsize; }  ///< bytes

  /// An inode of the file set.
  Inode inode(std::uint64_t number) const;
  SourcePtr data(const Inode& inode) const;
  std::string link_target(const Inode& inode) const;
  std::vector<std::pair<std::string, std::string>> attributes(const Inode& inode) const;
  /// Hands out a folder's names. A page that is damaged costs itself; the last such error is thrown at the
  /// end.
  void list_folder(const Inode& folder, const std::function<void(FolderItem&&)>& take) const;

 private:
  struct Run {
    std::uint64_t block = 0, count = 0;
  };
  using Seen = std::unordered_set<std::uint64_t>;

  static Run run_at(const Byte* descriptor);
  std::uint64_t place_of(Run run, std::string_view what) const;
  std::vector<Extent> extents(ByteView root, std::uint64_t size) const;
  void extent_page(ByteView page, std::size_t most, Seen& seen, std::vector<Extent>& out) const;
  void folder_page(ByteView page, std::size_t table_at, std::size_t count, Seen& seen,
                   const std::function<void(FolderItem&&)>& take, std::string& wrong) const;
  std::string name_at(ByteView page, std::size_t slot, bool leaf) const;

  SourcePtr image_, meta_, inode_map_;
  Superblock super_;
};

}  // namespace operculum::jfs

#pragma once

#include <functional>
#include <unordered_set>

#include "base/facts.h"
#include "base/structure.h"
#include "base/time.h"
#include "container/container.h"
#include "io/extent_source.h"

namespace operculum::xfs {

// XFS, after "XFS Algorithms & Data Structures" (3rd edition, xfs.wiki.kernel.org) and the Linux kernel's
// documentation. All numbers are big-endian but checksums, which are CRC-32C in little-endian order.
//
// The disk is cut into allocation groups of sb_agblocks blocks. A block's number holds its group above
// sb_agblklog bits; an inode's number its block above sb_inopblog bits. Each inode has two forks, data and
// attributes, of one of three forms: bytes in the inode, extents in the inode, or the root of a B+tree of
// extents.

constexpr std::size_t kLargestSector = 32768;  ///< bytes

/// di_format and di_aformat.
enum class ForkForm : std::uint8_t { device = 0, local = 1, extents = 2, btree = 3 };
/// The two things that an inode has extents of.
enum class Fork { data, attributes };

/// xfs_dsb: the first sector of every allocation group.
struct Superblock {
  std::uint32_t magic = 0, blocksize = 0;
  std::uint64_t dblocks = 0;
  std::array<Byte, 16> uuid = {};
  std::uint64_t logstart = 0, rootino = 0;
  std::uint32_t agblocks = 0, agcount = 0, logblocks = 0;
  std::uint16_t versionnum = 0, sectsize = 0, inodesize = 0, inopblock = 0;
  std::array<Byte, 12> fname = {};
  std::uint8_t blocklog = 0, sectlog = 0, inodelog = 0, inopblog = 0, agblklog = 0, inprogress = 0;
  std::uint64_t icount = 0, ifree = 0, fdblocks = 0;
  std::uint8_t dirblklog = 0;
  std::uint32_t features2 = 0;
  std::uint32_t features_compat = 0, features_ro_compat = 0, features_incompat = 0, features_log_incompat = 0;
  std::array<Byte, 4> crc = {};

  static constexpr auto layout = big_endian(
      field("sb_magicnum", &Superblock::magic), field("sb_blocksize", &Superblock::blocksize),
      field("sb_dblocks", &Superblock::dblocks), from_byte<32>(), field("sb_uuid", &Superblock::uuid),
      field("sb_logstart", &Superblock::logstart), field("sb_rootino", &Superblock::rootino), from_byte<84>(),
      field("sb_agblocks", &Superblock::agblocks), field("sb_agcount", &Superblock::agcount), from_byte<96>(),
      field("sb_logblocks", &Superblock::logblocks), field("sb_versionnum", &Superblock::versionnum),
      field("sb_sectsize", &Superblock::sectsize), field("sb_inodesize", &Superblock::inodesize),
      field("sb_inopblock", &Superblock::inopblock), field("sb_fname", &Superblock::fname),
      field("sb_blocklog", &Superblock::blocklog), field("sb_sectlog", &Superblock::sectlog),
      field("sb_inodelog", &Superblock::inodelog), field("sb_inopblog", &Superblock::inopblog),
      field("sb_agblklog", &Superblock::agblklog), from_byte<126>(),
      field("sb_inprogress", &Superblock::inprogress), from_byte<128>(),
      field("sb_icount", &Superblock::icount), field("sb_ifree", &Superblock::ifree),
      field("sb_fdblocks", &Superblock::fdblocks), from_byte<192>(),
      field("sb_dirblklog", &Superblock::dirblklog), from_byte<200>(),
      field("sb_features2", &Superblock::features2), from_byte<208>(),
      field("sb_features_compat", &Superblock::features_compat),
      field("sb_features_ro_compat", &Superblock::features_ro_compat),
      field("sb_features_incompat", &Superblock::features_incompat),
      field("sb_features_log_incompat", &Superblock::features_log_incompat),
      field("sb_crc", &Superblock::crc));

  bool has_checksums() const { return (versionnum & 15) == 5; }
  bool has_file_types() const;
  bool needs_repair() const;
  bool ignores_case() const { return (versionnum & 0x4000) != 0; }
  std::uint32_t folder_block() const { return blocksize << dirblklog; }  ///< bytes
};

/// xfs_dinode, with its forks as they lie in the inode.
struct Inode {
  std::uint64_t number = 0;
  std::uint16_t mode = 0;
  std::uint32_t uid = 0, gid = 0, links = 0;
  std::uint64_t size = 0, blocks = 0;  ///< bytes; blocks of the file system, attributes' too
  Timestamp accessed, modified, changed, created;
  std::uint64_t extent_count = 0, attribute_extent_count = 0;
  ForkForm form = ForkForm::extents, attribute_form = ForkForm::extents;
  Bytes data, attributes;  ///< the forks; no attributes: empty
  bool real_time = false;  ///< its data lies on another device
  std::string wrong_sums;  ///< what is told of its checksum where it differs, else empty

  ByteView fork(Fork which) const { return which == Fork::data ? data : attributes; }
  ForkForm form_of(Fork which) const { return which == Fork::data ? form : attribute_form; }
};

/// Throws Malformed unless the bytes are a superblock that makes sense, Unsupported for what no reader here
/// knows.
Superblock read_superblock(ByteView bytes);

/// Whether a structure of a file system with checksums fits its own, which lies at `at` and counts as zeros.
bool fits_checksum(ByteView bytes, std::size_t at);
/// What is told where it does not: " (stored ..., computed ...)".
std::string told_checksum(ByteView bytes, std::size_t at);

/// The structures of an XFS file system, read as they are wanted.
class Volume {
 public:
  explicit Volume(SourcePtr image);

  const Superblock& super() const { return super_; }
  const SourcePtr& image() const { return image_; }
  const Source& meta() const { return *meta_; }  ///< the image, for small reads

  Inode inode(std::uint64_t number) const;
  /// Where a fork's bytes lie, by rising offset; blocks that were allocated and never written are left out.
  /// Throws Malformed on loops and on blocks outside of the file system.
  std::vector<Extent> extents(const Inode& inode, Fork which) const;
  /// A file's, folder's or link's bytes.
  SourcePtr data(const Inode& inode) const;
  std::string link_target(const Inode& inode) const;
  /// Extended attributes with the names that the system gives them.
  ExtendedAttributes attributes(const Inode& inode) const;

  /// Whether everything in the log was written to its place: it ends with the record of an unmount.
  bool log_is_clean() const;

 private:
  std::uint64_t place_of_block(std::uint64_t block) const;  ///< the offset of a block in bytes
  void add_extents(ByteView records, std::size_t count, std::vector<Extent>& out) const;
  void walk_tree(ByteView root, std::vector<Extent>& out) const;
  void walk_node(std::uint64_t block, unsigned level, std::unordered_set<std::uint64_t>& seen,
                 std::vector<Extent>& out) const;
  std::uint32_t log_cycle(std::uint64_t sector) const;

  SourcePtr image_, meta_;
  Superblock super_;
};

/// What attributes(Inode) does, given the bytes of the attribute fork and how they are kept.
ExtendedAttributes short_attributes(ByteView fork);
ExtendedAttributes block_attributes(const Source& fork, const Superblock& super);

/// A name in a folder.
struct FolderItem {
  std::string_view name;
  std::uint64_t inode = 0;
  unsigned type = 0;  ///< xfs_dir3_ft; 0: not told
};
using FolderSink = std::function<void(const FolderItem&)>;

/// Hands out a folder's names without "." and "..". A block that is damaged costs itself; the last such error
/// is thrown at the end.
void list_folder(const Volume& volume, const Inode& folder, const FolderSink& sink);

}  // namespace operculum::xfs

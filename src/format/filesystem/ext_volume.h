#pragma once

#include <optional>
#include <unordered_set>
#include <vector>

#include "base/facts.h"
#include "container/container.h"
#include "format/filesystem/ext_records.h"
#include "io/extent_source.h"

namespace operculum::ext {

// Names of fields and features follow the Linux kernel's documentation of ext4 (filesystems/ext4).

/// Bits of s_feature_incompat.
enum Incompat : std::uint32_t {
  compression_feature = 0x1,
  file_type_feature = 0x2,
  recover_feature = 0x4,
  journal_device_feature = 0x8,
  meta_groups_feature = 0x10,
  extents_feature = 0x40,
  is_64bit_feature = 0x80,
  multi_mount_feature = 0x100,
  flex_groups_feature = 0x200,
  attribute_inodes_feature = 0x400,
  directory_data_feature = 0x1000,
  checksum_seed_feature = 0x2000,
  large_folders_feature = 0x4000,
  inline_data_feature = 0x8000,
  encrypt_feature = 0x10000,
  case_fold_feature = 0x20000,
};
/// Bits of s_feature_ro_compat.
enum ReadOnlyCompat : std::uint32_t {
  group_checksum_feature = 0x10,
  big_alloc_feature = 0x200,
  metadata_checksum_feature = 0x400,
};
/// Bits of i_flags.
enum InodeFlag : std::uint32_t {
  encrypted_flag = 0x800,
  index_flag = 0x1000,
  extents_flag = 0x80000,
  huge_file_flag = 0x40000,
  inline_data_flag = 0x10000000,
};

/// What the superblock tells, put together from its parts; sizes are bytes.
struct Superblock {
  std::uint64_t blocks = 0, free_blocks = 0;
  std::uint32_t inodes = 0, free_inodes = 0, first_data_block = 0;
  std::uint32_t block_size = 0, cluster_blocks = 1, blocks_per_group = 0, inodes_per_group = 0;
  std::uint32_t compat = 0, incompat = 0, ro_compat = 0, revision = 0;
  std::uint32_t inode_size = 128, descriptor_size = 32, first_meta_group = 0, checksum_seed = 0;
  std::uint16_t state = 0;
  Timestamp made, written;
  Bytes uuid;
  std::string label, last_mounted;
  bool has(Incompat feature) const { return (incompat & feature) != 0; }
  bool has(ReadOnlyCompat feature) const { return (ro_compat & feature) != 0; }
};

/// An inode, put together from its parts.
struct Inode {
  std::uint32_t number = 0, generation = 0, flags = 0;
  std::uint32_t mode = 0, uid = 0, gid = 0, links = 0;
  std::uint64_t size = 0, allocated = 0;  // bytes
  std::uint64_t attribute_block = 0;
  Timestamp accessed, changed, modified, created;
  Bytes block;             // i_block: 60 bytes
  Bytes extra;             // what lies behind the fixed fields: attributes kept in the inode
  std::string wrong_sums;  ///< what is told of its checksum where it differs, else empty
  bool has(InodeFlag flag) const { return (flags & flag) != 0; }
};

/// All blocks that a file has.
struct BlocksOfFile {
  std::vector<std::uint64_t> data;    ///< in the order of the file; those that were never written, too
  std::vector<std::uint64_t> tables;  ///< that say where the data is
};

using Report = std::function<void(Finding::Level, std::string)>;

/// Throws Malformed unless the 1024 bytes are a superblock that makes sense.
Superblock read_superblock(ByteView bytes);
/// The one of an image, or a backup when it is damaged, which is told. Throws Malformed when there is none.
Superblock find_superblock(const Source& image, const Report& report);

/// Blocks met on a way through tables: what leads twice to one is damaged, and would take without end.
using SeenBlocks = std::unordered_set<std::uint64_t>;

/// A way through a tree of extents.
struct ExtentWalk {
  std::function<void(const ExtentRow&)> row;
  std::function<void(std::uint64_t block)> table = {};  ///< a block of the tree itself
  SeenBlocks seen = {};
  std::uint64_t next = 0;  ///< the block of the file behind the last row
};

/// The structures of an ext2, ext3 or ext4 file system, read as they are wanted.
class Volume {
 public:
  /// Findings go to `report`. Throws Malformed and Unsupported.
  Volume(SourcePtr image, const Report& report);

  const Superblock& super() const { return super_; }
  const SourcePtr& image() const { return image_; }

  Inode inode(std::uint32_t number) const;
  /// Where a file's bytes lie. Throws Malformed on loops, overlaps and blocks outside the file system.
  std::vector<Extent> extents(const Inode& inode) const;
  /// The bytes of a file, folder or link kept in its inode; empty when they are kept in blocks.
  std::optional<Bytes> inline_data(const Inode& inode) const;
  SourcePtr data(const Inode& inode) const;
  ExtendedAttributes attributes(const Inode& inode) const;
  /// Seed of the checksums of blocks that belong to this inode.
  std::uint32_t seed_of(const Inode& inode) const;

  // What is needed to write; places are bytes.

  std::uint32_t seed() const { return seed_; }  ///< of all checksums
  /// Throws Malformed as extents() does.
  BlocksOfFile blocks_of(const Inode& inode) const;
  std::uint64_t inode_place(std::uint32_t number) const;
  std::uint64_t descriptor_place(std::uint64_t group) const;
  /// The checksum of a group's descriptor; nothing where none is kept.
  std::optional<std::uint16_t> descriptor_sum(std::uint64_t group, ByteView raw) const;
  /// Puts the checksum of an inode's bytes into them.
  void put_inode_sum(const Inode& inode, ByteSpan raw) const;

 private:
  void read_groups(const Report& report);
  static WideInode wide_part(ByteView raw);
  static void put_sum(ByteSpan raw, std::uint32_t sum);
  std::optional<std::uint32_t> inode_sum(const Inode& inode, Bytes raw) const;
  Bytes block(std::uint64_t number, std::string_view what) const;
  ExtentHead extent_head(const Inode& inode, ByteView node, unsigned level) const;
  void each_extent(const Inode& inode, ByteView node, unsigned level, ExtentWalk& walk) const;
  std::vector<Extent> block_map(const Inode& inode) const;
  void add_attributes(ByteView entries, ByteView values, std::string_view what,
                      ExtendedAttributes& out) const;

  SourcePtr image_, meta_;
  Superblock super_;
  std::uint32_t seed_ = 0;
  std::vector<std::uint64_t> inode_tables_;  // block of each group's
};

}  // namespace operculum::ext

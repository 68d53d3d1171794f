#pragma once

#include "base/structure.h"

/// The records of ext2, ext3 and ext4, with the names of the Linux kernel's documentation (filesystems/ext4).
/// All numbers are little-endian.
///
///   boot block | superblock | group descriptors | group 0: bitmaps, inodes, data | group 1: ...
///
/// A file system is cut into groups, so that an inode and its data lie near each other; the superblock and
/// all descriptors have copies in some of them. An inode says where a file's blocks are: by a tree of
/// extents, or as before ext4 by twelve block numbers and three levels of tables. Small files, and
/// attributes, may lie in the inode itself. A folder is a file of entries, each as long as it says.
namespace operculum::ext {

constexpr std::uint64_t kSuperAt = 1024;
constexpr std::size_t kSuperSize = 1024;
constexpr std::uint16_t kMagic = 0xEF53, kExtentMagic = 0xF30A;
constexpr std::uint32_t kAttributeMagic = 0xEA020000;
constexpr std::uint16_t kMostInExtent = 32768;  // blocks; more stand for blocks that were never written

/// What a device has in place of its first block numbers.
struct DeviceRecord {
  std::uint32_t old_encoded = 0, new_encoded = 0;
  static constexpr auto layout = little_endian(field("i_block[0]", &DeviceRecord::old_encoded),
                                               field("i_block[1]", &DeviceRecord::new_encoded));
};

/// struct ext4_super_block.
struct SuperRecord {
  std::uint32_t inodes = 0, blocks_low = 0, free_blocks_low = 0, free_inodes = 0, first_data_block = 0,
                log_block_size = 0, log_cluster_size = 0, blocks_per_group = 0, inodes_per_group = 0,
                written = 0;
  std::uint16_t magic = 0, state = 0;
  std::uint32_t revision = 0;
  std::uint16_t inode_size = 0;
  std::uint32_t compat = 0, incompat = 0, ro_compat = 0;
  std::array<Byte, 16> uuid{}, label{};
  std::array<Byte, 64> last_mounted{};
  std::uint16_t descriptor_size = 0;
  std::uint32_t first_meta_group = 0, made = 0, blocks_high = 0, free_blocks_high = 0, checksum_seed = 0,
                checksum = 0;
  static constexpr auto layout = little_endian(
      field("s_inodes_count", &SuperRecord::inodes), field("s_blocks_count_lo", &SuperRecord::blocks_low),
      from_byte<0x0C>(), field("s_free_blocks_count_lo", &SuperRecord::free_blocks_low),
      field("s_free_inodes_count", &SuperRecord::free_inodes),
      field("s_first_data_block", &SuperRecord::first_data_block),
      field("s_log_block_size", &SuperRecord::log_block_size),
      field("s_log_cluster_size", &SuperRecord::log_cluster_size),
      field("s_blocks_per_group", &SuperRecord::blocks_per_group), from_byte<0x28>(),
      field("s_inodes_per_group", &SuperRecord::inodes_per_group), from_byte<0x30>(),
      field("s_wtime", &SuperRecord::written), from_byte<0x38>(), field("s_magic", &SuperRecord::magic),
      field("s_state", &SuperRecord::state), from_byte<0x4C>(), field("s_rev_level", &SuperRecord::revision),
      from_byte<0x58>(), field("s_inode_size", &SuperRecord::inode_size), from_byte<0x5C>(),
      field("s_feature_compat", &SuperRecord::compat), field("s_feature_incompat", &SuperRecord::incompat),
      field("s_feature_ro_compat", &SuperRecord::ro_compat), field("s_uuid", &SuperRecord::uuid),
      field("s_volume_name", &SuperRecord::label), field("s_last_mounted", &SuperRecord::last_mounted),
      from_byte<0xFE>(), field("s_desc_size", &SuperRecord::descriptor_size), from_byte<0x104>(),
      field("s_first_meta_bg", &SuperRecord::first_meta_group), field("s_mkfs_time", &SuperRecord::made),
      from_byte<0x150>(), field("s_blocks_count_hi", &SuperRecord::blocks_high), from_byte<0x158>(),
      field("s_free_blocks_count_hi", &SuperRecord::free_blocks_high), from_byte<0x270>(),
      field("s_checksum_seed", &SuperRecord::checksum_seed), from_byte<0x3FC>(),
      field("s_checksum", &SuperRecord::checksum));
};
static_assert(size_on_disk<SuperRecord> == kSuperSize);

/// struct ext4_group_desc; the upper halves are there with the 64bit feature.
struct GroupDescriptor {
  static constexpr std::uint16_t kBlocksUninit = 2;  // in `flags`: the bitmap was never written
  std::uint32_t bitmap_low = 0, inode_table_low = 0;
  std::uint16_t free_low = 0, flags = 0, bitmap_sum_low = 0, checksum = 0;
  static constexpr auto layout =
      little_endian(field("bg_block_bitmap_lo", &GroupDescriptor::bitmap_low), from_byte<0x08>(),
                    field("bg_inode_table_lo", &GroupDescriptor::inode_table_low),
                    field("bg_free_blocks_count_lo", &GroupDescriptor::free_low), from_byte<0x12>(),
                    field("bg_flags", &GroupDescriptor::flags), from_byte<0x18>(),
                    field("bg_block_bitmap_csum_lo", &GroupDescriptor::bitmap_sum_low), from_byte<0x1E>(),
                    field("bg_checksum", &GroupDescriptor::checksum));
};
constexpr std::size_t kGroupDescriptorSize = size_on_disk<GroupDescriptor>;
static_assert(kGroupDescriptorSize == 32);

/// Behind it where descriptors have 64 bytes.
struct WideDescriptor {
  std::uint32_t bitmap_high = 0, inode_table_high = 0;
  std::uint16_t free_high = 0, bitmap_sum_high = 0;
  static constexpr auto layout =
      little_endian(field("bg_block_bitmap_hi", &WideDescriptor::bitmap_high), from_byte<0x08>(),
                    field("bg_inode_table_hi", &WideDescriptor::inode_table_high),
                    field("bg_free_blocks_count_hi", &WideDescriptor::free_high), from_byte<0x18>(),
                    field("bg_block_bitmap_csum_hi", &WideDescriptor::bitmap_sum_high));
};
constexpr std::size_t kWideDescriptorSize = 64;  // with what is in front of it

/// struct ext4_inode.
struct InodeRecord {
  std::uint16_t mode = 0, uid_low = 0;
  std::uint32_t size_low = 0, accessed = 0, changed = 0, modified = 0;
  std::uint16_t gid_low = 0, links = 0;
  std::uint32_t blocks_low = 0, flags = 0;
  std::array<Byte, 60> block{};
  std::uint32_t generation = 0, attributes_low = 0, size_high = 0;
  std::uint16_t blocks_high = 0, attributes_high = 0, uid_high = 0, gid_high = 0, checksum_low = 0;
  static constexpr auto layout = little_endian(
      field("i_mode", &InodeRecord::mode), field("i_uid", &InodeRecord::uid_low),
      field("i_size_lo", &InodeRecord::size_low), field("i_atime", &InodeRecord::accessed),
      field("i_ctime", &InodeRecord::changed), field("i_mtime", &InodeRecord::modified), from_byte<0x18>(),
      field("i_gid", &InodeRecord::gid_low), field("i_links_count", &InodeRecord::links),
      field("i_blocks_lo", &InodeRecord::blocks_low), field("i_flags", &InodeRecord::flags),
      from_byte<0x28>(), field("i_block", &InodeRecord::block),
      field("i_generation", &InodeRecord::generation), field("i_file_acl_lo", &InodeRecord::attributes_low),
      field("i_size_high", &InodeRecord::size_high), from_byte<0x74>(),
      field("l_i_blocks_high", &InodeRecord::blocks_high),
      field("l_i_file_acl_high", &InodeRecord::attributes_high),
      field("l_i_uid_high", &InodeRecord::uid_high), field("l_i_gid_high", &InodeRecord::gid_high),
      field("l_i_checksum_lo", &InodeRecord::checksum_low));
};
constexpr std::size_t kInodeSize = 128;  // what all inodes have

/// Behind it in larger inodes, as far as `extra_size` says.
struct WideInode {
  std::uint16_t extra_size = 0, checksum_high = 0;
  std::uint32_t changed_extra = 0, modified_extra = 0, accessed_extra = 0, created = 0, created_extra = 0;
  static constexpr auto layout = little_endian(
      field("i_extra_isize", &WideInode::extra_size), field("i_checksum_hi", &WideInode::checksum_high),
      field("i_ctime_extra", &WideInode::changed_extra), field("i_mtime_extra", &WideInode::modified_extra),
      field("i_atime_extra", &WideInode::accessed_extra), field("i_crtime", &WideInode::created),
      field("i_crtime_extra", &WideInode::created_extra));
};

/// struct ext4_extent_header.
struct ExtentHead {
  std::uint16_t magic = kExtentMagic, entries = 0, most = 0, depth = 0;
  std::uint32_t generation = 0;
  static constexpr auto layout =
      little_endian(field("eh_magic", &ExtentHead::magic), field("eh_entries", &ExtentHead::entries),
                    field("eh_max", &ExtentHead::most), field("eh_depth", &ExtentHead::depth),
                    field("eh_generation", &ExtentHead::generation));
};
/// struct ext4_extent: a run of blocks.
struct ExtentRow {
  std::uint32_t logical = 0;
  std::uint16_t count = 0, start_high = 0;
  std::uint32_t start_low = 0;
  static constexpr auto layout = little_endian(
      field("ee_block", &ExtentRow::logical), field("ee_len", &ExtentRow::count),
      field("ee_start_hi", &ExtentRow::start_high), field("ee_start_lo", &ExtentRow::start_low));

  std::uint64_t start() const { return start_low | std::uint64_t{start_high} << 32; }
  bool written() const { return count <= kMostInExtent; }
  std::uint32_t blocks() const { return written() ? count : count - kMostInExtent; }
};
/// struct ext4_extent_idx: the node below.
struct ExtentIndex {
  std::uint32_t logical = 0, leaf_low = 0;
  std::uint16_t leaf_high = 0, unused = 0;
  static constexpr auto layout =
      little_endian(field("ei_block", &ExtentIndex::logical), field("ei_leaf_lo", &ExtentIndex::leaf_low),
                    field("ei_leaf_hi", &ExtentIndex::leaf_high), field("ei_unused", &ExtentIndex::unused));

  std::uint64_t leaf() const { return leaf_low | std::uint64_t{leaf_high} << 32; }
};
static_assert(size_on_disk<ExtentIndex> == size_on_disk<ExtentRow>);

/// What a block of attributes begins with; the entries follow.
struct AttributeHead {
  std::uint32_t magic = 0, references = 0, blocks = 0, hash = 0, checksum = 0;
  static constexpr auto layout =
      little_endian(field("h_magic", &AttributeHead::magic), field("h_refcount", &AttributeHead::references),
                    field("h_blocks", &AttributeHead::blocks), field("h_hash", &AttributeHead::hash),
                    field("h_checksum", &AttributeHead::checksum), from_byte<32>());
};
/// Its name follows, filled up to a multiple of 4 bytes.
struct AttributeEntry {
  std::uint8_t name_length = 0, name_index = 0;
  std::uint16_t value_at = 0;
  std::uint32_t value_inode = 0, value_size = 0, hash = 0;
  static constexpr auto layout = little_endian(
      field("e_name_len", &AttributeEntry::name_length), field("e_name_index", &AttributeEntry::name_index),
      field("e_value_offs", &AttributeEntry::value_at), field("e_value_inum", &AttributeEntry::value_inode),
      field("e_value_size", &AttributeEntry::value_size), field("e_hash", &AttributeEntry::hash));
};

/// Its name follows.
struct FolderEntry {
  std::uint32_t inode = 0;
  std::uint16_t length = 0;
  std::uint8_t name_length = 0, type = 0;
  static constexpr auto layout =
      little_endian(field("inode", &FolderEntry::inode), field("rec_len", &FolderEntry::length),
                    field("name_len", &FolderEntry::name_length), field("file_type", &FolderEntry::type));
};
/// At the end of a folder's block, in the shape of an entry.
struct FolderTail {
  static constexpr std::uint8_t kType = 0xDE;
  std::uint32_t inode = 0;
  std::uint16_t length = 0;
  std::uint8_t name_length = 0, type = 0;
  std::uint32_t checksum = 0;
  static constexpr auto layout = little_endian(
      field("det_reserved_zero1", &FolderTail::inode), field("det_rec_len", &FolderTail::length),
      field("det_reserved_zero2", &FolderTail::name_length), field("det_reserved_ft", &FolderTail::type),
      field("det_checksum", &FolderTail::checksum));
};
/// In a block of a folder's index, in front of the rows of 8 bytes.
struct IndexCounts {
  std::uint16_t limit = 0, count = 0;
  static constexpr auto layout =
      little_endian(field("limit", &IndexCounts::limit), field("count", &IndexCounts::count));
};
constexpr std::size_t kIndexRowSize = 8, kRootCountsAt = 32, kNodeCountsAt = 8;
/// Behind the room for those rows.
struct IndexTail {
  std::uint32_t reserved = 0, checksum = 0;
  static constexpr auto layout =
      little_endian(field("dt_reserved", &IndexTail::reserved), field("dt_checksum", &IndexTail::checksum));
};

}  // namespace operculum::ext

#pragma once

#include <functional>
#include <unordered_map>

#include "base/facts.h"
#include "base/structure.h"
#include "base/time.h"
#include "container/container.h"
#include "io/extent_source.h"

namespace operculum::f2fs {

// F2FS, after the Linux kernel's documentation (filesystems/f2fs) and the structures that it publishes
// (include/linux/f2fs_fs.h).
//
// Blocks of 4 KiB in segments of 2 MiB. In front lie the superblock (twice), two packs of a checkpoint each,
// and the node address table (NAT), which tells where a node is: an inode with its first pointers, or a block
// of more pointers. Each block of the NAT is there twice; a bitmap in the checkpoint tells which is valid,
// and the newest changes of the NAT are a journal in the checkpoint's summaries. Small files and folders lie
// in their inode.

constexpr std::uint64_t kBlock = 4096, kSuperAt = 1024;
constexpr std::uint32_t kMagic = 0xF2F52010;
constexpr std::size_t kPointersInInode = 923, kPointersInNode = 1018, kInodePointersAt = 360, kTreesAt = 4052;

/// struct f2fs_super_block.
struct Superblock {
  std::uint32_t magic = 0;
  std::uint16_t major_ver = 0, minor_ver = 0;
  std::uint32_t log_blocksize = 0, log_blocks_per_seg = 0;
  std::uint64_t block_count = 0;
  std::uint32_t segment_count_nat = 0, cp_blkaddr = 0, nat_blkaddr = 0, main_blkaddr = 0, root_ino = 0;
  std::array<Byte, 16> uuid = {};
  std::array<Byte, 1024> volume_name = {};
  std::uint32_t cp_payload = 0, feature = 0;
  std::array<Byte, 64> second_device = {};
  std::uint16_t s_encoding = 0;
  static constexpr auto layout = little_endian(
      field("magic", &Superblock::magic), field("major_ver", &Superblock::major_ver),
      field("minor_ver", &Superblock::minor_ver), from_byte<16>(),
      field("log_blocksize", &Superblock::log_blocksize),
      field("log_blocks_per_seg", &Superblock::log_blocks_per_seg), from_byte<36>(),
      field("block_count", &Superblock::block_count), from_byte<60>(),
      field("segment_count_nat", &Superblock::segment_count_nat), from_byte<76>(),
      field("cp_blkaddr", &Superblock::cp_blkaddr), from_byte<84>(),
      field("nat_blkaddr", &Superblock::nat_blkaddr), from_byte<92>(),
      field("main_blkaddr", &Superblock::main_blkaddr), field("root_ino", &Superblock::root_ino),
      from_byte<108>(), field("uuid", &Superblock::uuid), field("volume_name", &Superblock::volume_name),
      from_byte<1664>(), field("cp_payload", &Superblock::cp_payload), from_byte<2180>(),
      field("feature", &Superblock::feature), from_byte<2269>(),
      field("devs[1].path", &Superblock::second_device), from_byte<2758>(),
      field("s_encoding", &Superblock::s_encoding));

  bool has(std::uint32_t bit) const { return (feature & bit) != 0; }
};
/// Bits of the superblock's feature.
enum Feature : std::uint32_t {
  extra_attributes_feature = 0x8,
  inode_checksum_feature = 0x20,
  flexible_inline_attributes_feature = 0x40,
  creation_time_feature = 0x100,
};

/// Where a device has its number, in the room of pointers: eight bits each, or, where that is 0, as the
/// kernel has it now.
struct DevicePointers {
  std::uint32_t old_encoded = 0, new_encoded = 0;
  static constexpr auto layout = little_endian(field("i_addr[0]", &DevicePointers::old_encoded),
                                               field("i_addr[1]", &DevicePointers::new_encoded));
};

/// struct f2fs_nat_entry: where a node lies.
struct NatEntry {
  std::uint8_t version = 0;
  std::uint32_t ino = 0, block_addr = 0;
  static constexpr auto layout =
      little_endian(field("version", &NatEntry::version), field("ino", &NatEntry::ino),
                    field("block_addr", &NatEntry::block_addr));
};

/// struct nat_journal, up to its entries, and one of them (struct nat_journal_entry) up to its NatEntry.
struct JournalHead {
  std::uint16_t n_nats = 0;
  static constexpr auto layout = little_endian(field("n_nats", &JournalHead::n_nats));
};
/// An entry of that journal, in front of its NatEntry (struct nat_journal_entry).
struct JournalRow {
  std::uint32_t nid = 0;
  static constexpr auto layout = little_endian(field("nid", &JournalRow::nid));
};

/// struct f2fs_xattr_header, and an entry (struct f2fs_xattr_entry): name, then value follow, filled up to
/// four bytes; the last is followed by a zero.
struct AttributesHead {
  std::uint32_t h_magic = 0, h_refcount = 0;
  static constexpr std::uint32_t magic = 0xF2F52011;
  static constexpr std::size_t size = 24;  ///< with what is reserved
  static constexpr auto layout = little_endian(field("h_magic", &AttributesHead::h_magic),
                                               field("h_refcount", &AttributesHead::h_refcount));
};
/// An extended attribute (struct f2fs_xattr_entry): name, then value follow, filled up to four bytes.
struct AttributeHead {
  std::uint8_t e_name_index = 0, e_name_len = 0;
  std::uint16_t e_value_size = 0;
  static constexpr auto layout = little_endian(field("e_name_index", &AttributeHead::e_name_index),
                                               field("e_name_len", &AttributeHead::e_name_len),
                                               field("e_value_size", &AttributeHead::e_value_size));
};

/// struct compress_data: in front of a packed cluster.
struct ClusterHead {
  std::uint32_t clen = 0, chksum = 0;
  static constexpr std::size_t size = 24;  ///< with what is reserved
  static constexpr auto layout =
      little_endian(field("clen", &ClusterHead::clen), field("chksum", &ClusterHead::chksum));
};

/// struct f2fs_checkpoint, in front of the bitmaps.
struct Checkpoint {
  std::uint64_t version = 0, user_block_count = 0, valid_block_count = 0;
  std::uint32_t flags = 0, total_blocks = 0, start_sum = 0, sit_bitmap_size = 0, nat_bitmap_size = 0,
                checksum_offset = 0;
  static constexpr std::size_t bitmap_at = 192;
  static constexpr auto layout = little_endian(
      field("checkpoint_ver", &Checkpoint::version), field("user_block_count", &Checkpoint::user_block_count),
      field("valid_block_count", &Checkpoint::valid_block_count), from_byte<132>(),
      field("ckpt_flags", &Checkpoint::flags), field("cp_pack_total_block_count", &Checkpoint::total_blocks),
      field("cp_pack_start_sum", &Checkpoint::start_sum), from_byte<156>(),
      field("sit_ver_bitmap_bytesize", &Checkpoint::sit_bitmap_size),
      field("nat_ver_bitmap_bytesize", &Checkpoint::nat_bitmap_size),
      field("checksum_offset", &Checkpoint::checksum_offset));

  bool has(std::uint32_t bit) const { return (flags & bit) != 0; }
};
/// Bits of ckpt_flags.
enum CheckpointFlag : std::uint32_t {
  unmounted_checkpoint = 1,
  compact_summaries_checkpoint = 4,
  errors_checkpoint = 8,
  fast_boot_checkpoint = 0x20,
  large_nat_bitmap_checkpoint = 0x400,
};

/// struct f2fs_inode, but its pointers and what some of them are used for.
struct Inode {
  std::uint16_t mode = 0;
  std::uint8_t advise = 0, inline_flags = 0;
  std::uint32_t uid = 0, gid = 0, links = 0;
  std::uint64_t size = 0, blocks = 0, atime = 0, ctime = 0, mtime = 0;
  std::uint32_t atime_nsec = 0, ctime_nsec = 0, mtime_nsec = 0, generation = 0, xattr_nid = 0, flags = 0;
  // in the room of pointers, where there are extra attributes
  std::uint16_t extra_isize = 0, inline_xattr_size = 0;
  std::uint32_t inode_checksum = 0;
  std::uint64_t crtime = 0;
  std::uint32_t crtime_nsec = 0;
  std::uint8_t compress_algorithm = 0, log_cluster_size = 0;
  static constexpr auto layout = little_endian(
      field("i_mode", &Inode::mode), field("i_advise", &Inode::advise),
      field("i_inline", &Inode::inline_flags), field("i_uid", &Inode::uid), field("i_gid", &Inode::gid),
      field("i_links", &Inode::links), from_byte<16>(), field("i_size", &Inode::size),
      field("i_blocks", &Inode::blocks), field("i_atime", &Inode::atime), field("i_ctime", &Inode::ctime),
      field("i_mtime", &Inode::mtime), field("i_atime_nsec", &Inode::atime_nsec),
      field("i_ctime_nsec", &Inode::ctime_nsec), field("i_mtime_nsec", &Inode::mtime_nsec),
      field("i_generation", &Inode::generation), from_byte<76>(), field("i_xattr_nid", &Inode::xattr_nid),
      field("i_flags", &Inode::flags), from_byte<360>(), field("i_extra_isize", &Inode::extra_isize),
      field("i_inline_xattr_size", &Inode::inline_xattr_size), from_byte<368>(),
      field("i_inode_checksum", &Inode::inode_checksum), field("i_crtime", &Inode::crtime),
      field("i_crtime_nsec", &Inode::crtime_nsec), from_byte<392>(),
      field("i_compress_algrithm", &Inode::compress_algorithm),  // as the kernel spells it
      field("i_log_cluster_size", &Inode::log_cluster_size));

  std::uint32_t number = 0;
  Bytes node;                     ///< the whole block
  std::size_t extra = 0;          ///< pointers whose room other fields take, at the front
  std::size_t inline_xattrs = 0;  ///< and extended attributes, at the end
  std::string wrong_sums;         ///< what is told of its checksum where it differs, else empty

  bool is(std::uint8_t bit) const { return (inline_flags & bit) != 0; }
  bool encrypted() const { return (advise & 0x04) != 0; }  ///< FADVISE_ENCRYPT_BIT
  bool packed() const { return (flags & 0x4) != 0; }       ///< F2FS_COMPR_FL
  std::size_t pointers() const { return kPointersInInode - extra - inline_xattrs; }
  /// The room for a file or folder within the inode.
  ByteView inline_room() const {
    return ByteView(node).subspan(kInodePointersAt + (extra + 1) * 4, (pointers() - 1) * 4);
  }
};
/// Bits of i_inline: what lies in the inode itself.
enum InlineFlag : std::uint8_t {
  inline_xattr_flag = 1,
  inline_data_flag = 2,
  inline_folder_flag = 4,
  extra_attr_flag = 0x20
};

/// Throws Malformed unless the bytes are a superblock that makes sense.
Superblock read_superblock(ByteView raw, std::uint64_t at);

/// A name in a folder, and what it stands for.
struct FolderItem {
  std::string_view name;
  std::uint32_t inode = 0;
  unsigned type = 0;
};

/// The structures of an F2FS file system, read as they are wanted.
class Volume {
 public:
  Volume(SourcePtr image, const std::function<void(Finding::Level, std::string)>& report);

  const Superblock& super() const { return super_; }
  const Checkpoint& checkpoint() const { return checkpoint_; }
  const SourcePtr& image() const { return image_; }

  Inode inode(std::uint32_t number) const;
  /// A file's bytes. Throws Unsupported for encrypted ones.
  ContentPtr data(const Inode& inode) const;
  std::string link_target(const Inode& inode) const;
  ExtendedAttributes attributes(const Inode& inode) const;
  /// Hands out a folder's names without "." and "..".
  void list_folder(const Inode& folder, const std::function<void(const FolderItem&)>& take) const;

 private:
  /// Receives a block of the file: its index, and its address.
  using BlockSink = std::function<void(std::uint64_t index, std::uint32_t address)>;

  bool read_checkpoint(std::uint64_t at, Checkpoint& out, Bytes& block) const;
  void read_nat_journal(std::uint64_t pack);
  Bytes node(std::uint32_t id) const;
  void each_block(const Inode& inode, const BlockSink& take) const;
  std::uint64_t place_of(std::uint32_t address) const;
  std::vector<Extent> extents(const Inode& inode) const;
  ContentPtr packed_data(const Inode& inode) const;

  SourcePtr image_, meta_;
  Superblock super_;
  Checkpoint checkpoint_;
  Bytes nat_bitmap_;
  std::unordered_map<std::uint32_t, std::uint32_t> nat_journal_;  // node: its block
};

}  // namespace operculum::f2fs

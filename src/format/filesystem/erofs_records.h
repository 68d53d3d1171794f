#pragma once

#include "base/structure.h"

/// The records of EROFS, with the names of the Linux kernel's fs/erofs/erofs_fs.h. All numbers are
/// little-endian.
///
///   boot block | superblock (1 KiB) | inodes with their attributes and the ends of files | blocks of data
///
/// An inode's number is its place, counted in 32 bytes from the metadata block on. What lies behind an inode
/// depends on its layout: nothing, the end of the file, or the index of packed clusters or chunks.
namespace operculum::erofs {

constexpr std::uint64_t kSuperAt = 1024, kInodeSlot = 32;  // bytes
constexpr std::uint32_t kMagic = 0xE0F5E1E2;

/// struct erofs_super_block.
struct Super {
  std::uint32_t magic = 0, checksum = 0, feature_compat = 0;
  std::uint8_t blkszbits = 0;
  std::uint16_t root_nid = 0;
  std::uint64_t inos = 0, build_time = 0;
  std::uint32_t build_time_nsec = 0, blocks = 0, meta_blkaddr = 0, xattr_blkaddr = 0;
  std::array<Byte, 16> uuid{}, volume_name{};
  std::uint32_t feature_incompat = 0;
  std::uint16_t extra_devices = 0;
  std::uint8_t xattr_prefix_count = 0;
  std::uint32_t xattr_prefix_start = 0;
  std::uint64_t packed_nid = 0;
  static constexpr auto layout = little_endian(
      field("magic", &Super::magic), field("checksum", &Super::checksum),
      field("feature_compat", &Super::feature_compat), field("blkszbits", &Super::blkszbits), from_byte<14>(),
      field("root_nid", &Super::root_nid), field("inos", &Super::inos),
      field("build_time", &Super::build_time), field("build_time_nsec", &Super::build_time_nsec),
      field("blocks", &Super::blocks), field("meta_blkaddr", &Super::meta_blkaddr),
      field("xattr_blkaddr", &Super::xattr_blkaddr), field("uuid", &Super::uuid),
      field("volume_name", &Super::volume_name), field("feature_incompat", &Super::feature_incompat),
      from_byte<86>(), field("extra_devices", &Super::extra_devices), from_byte<91>(),
      field("xattr_prefix_count", &Super::xattr_prefix_count),
      field("xattr_prefix_start", &Super::xattr_prefix_start), field("packed_nid", &Super::packed_nid),
      from_byte<128>());

  std::uint64_t block_size() const { return std::uint64_t{1} << blkszbits; }
};
constexpr std::size_t kSuperSize = size_on_disk<Super>;
constexpr unsigned kLeastBlockBits = 9, kMostBlockBits = 16;
constexpr std::uint32_t kHasChecksum = 1;  // of feature_compat
/// Bits of feature_incompat.
enum Feature : std::uint32_t { zero_padding = 1, attribute_prefixes = 0x40, known_features = 0x7F };

/// How a file's data lies, out of i_format.
enum Layout : unsigned { flat = 0, packed_full = 1, flat_inline = 2, packed_compact = 3, in_chunks = 4 };

/// struct erofs_inode_compact, in its first form.
struct CompactInode {
  std::uint16_t i_format = 0, i_xattr_icount = 0, i_mode = 0, i_nlink = 0;
  std::uint32_t i_size = 0, i_u = 0;
  std::uint16_t i_uid = 0, i_gid = 0;
  static constexpr auto layout = little_endian(
      field("i_format", &CompactInode::i_format), field("i_xattr_icount", &CompactInode::i_xattr_icount),
      field("i_mode", &CompactInode::i_mode), field("i_nlink", &CompactInode::i_nlink),
      field("i_size", &CompactInode::i_size), from_byte<16>(), field("i_u", &CompactInode::i_u),
      from_byte<24>(), field("i_uid", &CompactInode::i_uid), field("i_gid", &CompactInode::i_gid),
      from_byte<32>());
};
/// struct erofs_inode_extended.
struct ExtendedInode {
  std::uint16_t i_format = 0, i_xattr_icount = 0, i_mode = 0;
  std::uint64_t i_size = 0;
  std::uint32_t i_u = 0, i_uid = 0, i_gid = 0;
  std::uint64_t i_mtime = 0;
  std::uint32_t i_mtime_nsec = 0, i_nlink = 0;
  static constexpr auto layout = little_endian(
      field("i_format", &ExtendedInode::i_format), field("i_xattr_icount", &ExtendedInode::i_xattr_icount),
      field("i_mode", &ExtendedInode::i_mode), from_byte<8>(), field("i_size", &ExtendedInode::i_size),
      field("i_u", &ExtendedInode::i_u), from_byte<24>(), field("i_uid", &ExtendedInode::i_uid),
      field("i_gid", &ExtendedInode::i_gid), field("i_mtime", &ExtendedInode::i_mtime),
      field("i_mtime_nsec", &ExtendedInode::i_mtime_nsec), field("i_nlink", &ExtendedInode::i_nlink),
      from_byte<64>());
};

/// struct erofs_inode_chunk_index; without an index each chunk has its block's number alone.
struct ChunkIndex {
  static constexpr std::uint32_t kHole = 0xFFFFFFFF;
  std::uint16_t device_id = 0;
  std::uint32_t blkaddr = 0;
  static constexpr auto layout = little_endian(from_byte<2>(), field("device_id", &ChunkIndex::device_id),
                                               field("blkaddr", &ChunkIndex::blkaddr));
};
constexpr std::uint32_t kChunkBits = 0x1F, kChunkIndexes = 0x20;  // of i_u: the format of chunks

/// struct erofs_dirent; the names lie behind all of a block's.
struct FolderRow {
  std::uint64_t nid = 0;
  std::uint16_t nameoff = 0;
  std::uint8_t file_type = 0;
  static constexpr auto layout =
      little_endian(field("nid", &FolderRow::nid), field("nameoff", &FolderRow::nameoff),
                    field("file_type", &FolderRow::file_type), from_byte<12>());
};

/// struct erofs_xattr_ibody_header: numbers of shared attributes follow, then the inode's own.
struct AttributesHead {
  std::uint8_t h_shared_count = 0;
  static constexpr auto layout = little_endian(
      from_byte<4>(), field("h_shared_count", &AttributesHead::h_shared_count), from_byte<12>());
};
/// struct erofs_xattr_entry; name and value follow.
struct AttributeEntry {
  static constexpr std::uint8_t kLongPrefix = 0x80;  // in e_name_index: one of the image's own
  std::uint8_t e_name_len = 0, e_name_index = 0;
  std::uint16_t e_value_size = 0;
  static constexpr auto layout = little_endian(field("e_name_len", &AttributeEntry::e_name_len),
                                               field("e_name_index", &AttributeEntry::e_name_index),
                                               field("e_value_size", &AttributeEntry::e_value_size));
};

// ---- the index of a packed file

/// struct z_erofs_map_header. Where the whole file is a fragment, all of it but its highest bit is the place.
struct MapHeader {
  std::uint16_t h_fragment_low = 0, h_idata_size = 0, h_advise = 0;
  std::uint8_t h_algorithms = 0, h_clusterbits = 0;
  static constexpr auto layout = little_endian(
      field("h_fragmentoff", &MapHeader::h_fragment_low), field("h_idata_size", &MapHeader::h_idata_size),
      field("h_advise", &MapHeader::h_advise), field("h_algorithmtype", &MapHeader::h_algorithms),
      field("h_clusterbits", &MapHeader::h_clusterbits));
  static constexpr std::uint8_t kWholeFragment = 0x80;  // in h_clusterbits
  std::uint32_t fragment() const { return std::uint32_t{h_idata_size} << 16 | h_fragment_low; }
  std::uint64_t whole_fragment() const {
    std::uint64_t high = h_clusterbits & (kWholeFragment - 1u);
    return high << 56 | std::uint64_t{h_algorithms} << 48 | std::uint64_t{h_advise} << 32 | fragment();
  }
};
/// struct z_erofs_lcluster_index: what is packed where a cluster begins, or how far away that is.
struct ClusterIndex {
  std::uint16_t di_advise = 0, di_clusterofs = 0;
  std::uint32_t block = 0;
  static constexpr auto layout = little_endian(field("di_advise", &ClusterIndex::di_advise),
                                               field("di_clusterofs", &ClusterIndex::di_clusterofs),
                                               field("di_u", &ClusterIndex::block));
  unsigned type() const { return di_advise & 3; }
  std::uint32_t distance() const { return block & 0xFFFF; }  ///< di_u.delta[0]
};
constexpr std::uint64_t full_index_at = 16;  ///< behind the map header, and as much that is unused

}  // namespace operculum::erofs

#pragma once

#include "base/structure.h"

namespace operculum::apfs {

// APFS, after Apple's "Apple File System Reference" (2020-06-22).
//
// A container is a row of blocks. Everything but files' data is an object: it begins with a checksum, an
// identifier and the number of the transaction (xid) that wrote it, and is never written over. Block 0 is the
// container's superblock; newer ones lie in a ring, the checkpoint area. Objects are named by their block
// ("physical") or by an identifier that an object map, a B-tree of (identifier, xid), leads to a block
// ("virtual"). Each volume has a superblock, an object map, and a B-tree with all that is in it: inodes,
// names, extents, attributes, sorted by the number of the thing that they belong to. A snapshot is the state
// of a volume at an xid, read by the same object map.

/// What every object begins with (obj_phys_t).
struct ObjectHead {
  std::uint64_t cksum = 0, oid = 0, xid = 0;
  std::uint32_t type = 0, subtype = 0;
  static constexpr auto layout =
      little_endian(field("o_cksum", &ObjectHead::cksum), field("o_oid", &ObjectHead::oid),
                    field("o_xid", &ObjectHead::xid), field("o_type", &ObjectHead::type),
                    field("o_subtype", &ObjectHead::subtype));
};

/// Kinds of objects, in the lower half of o_type (OBJECT_TYPE_...).
enum class ObjectType : std::uint16_t {
  nx_superblock = 1,
  btree = 2,
  btree_node = 3,
  spaceman = 5,
  omap = 11,
  checkpoint_map = 12,
  fs = 13,
};

/// The container's superblock (nx_superblock_t), without its file systems' identifiers.
struct ContainerSuper {
  std::uint32_t magic = 0, block_size = 0;
  std::uint64_t block_count = 0, incompatible_features = 0;
  std::array<Byte, 16> uuid = {};
  std::uint32_t xp_desc_blocks = 0;
  std::uint64_t xp_desc_base = 0, xp_data_base = 0;
  std::uint32_t xp_data_blocks = 0, xp_desc_index = 0, xp_desc_len = 0, max_file_systems = 0;
  std::uint64_t spaceman_oid = 0, omap_oid = 0;
  std::uint64_t keylocker_start = 0, keylocker_count = 0;
  static constexpr std::uint32_t mark = 0x4253584E;  // "NXSB"
  static constexpr std::size_t fs_oid_at = 184, most_volumes = 100, size = 1408;
  static constexpr std::uint64_t fusion = 0x100;  // of incompatible_features
  static constexpr auto layout =
      little_endian(from_byte<32>(), field("nx_magic", &ContainerSuper::magic),
                    field("nx_block_size", &ContainerSuper::block_size),
                    field("nx_block_count", &ContainerSuper::block_count), from_byte<64>(),
                    field("nx_incompatible_features", &ContainerSuper::incompatible_features),
                    field("nx_uuid", &ContainerSuper::uuid), from_byte<104>(),
                    field("nx_xp_desc_blocks", &ContainerSuper::xp_desc_blocks),
                    field("nx_xp_data_blocks", &ContainerSuper::xp_data_blocks),
                    field("nx_xp_desc_base", &ContainerSuper::xp_desc_base),
                    field("nx_xp_data_base", &ContainerSuper::xp_data_base), from_byte<136>(),
                    field("nx_xp_desc_index", &ContainerSuper::xp_desc_index),
                    field("nx_xp_desc_len", &ContainerSuper::xp_desc_len), from_byte<152>(),
                    field("nx_spaceman_oid", &ContainerSuper::spaceman_oid),
                    field("nx_omap_oid", &ContainerSuper::omap_oid), from_byte<180>(),
                    field("nx_max_file_systems", &ContainerSuper::max_file_systems), from_byte<1296>(),
                    field("nx_keylocker.start", &ContainerSuper::keylocker_start),
                    field("nx_keylocker.count", &ContainerSuper::keylocker_count));
};

/// A volume's superblock (apfs_superblock_t).
struct VolumeSuper {
  std::uint32_t magic = 0, fs_index = 0;
  std::uint64_t incompatible_features = 0, unmount_time = 0, fs_alloc_count = 0;
  std::uint32_t root_tree_type = 0, snap_meta_tree_type = 0;
  std::uint64_t omap_oid = 0, root_tree_oid = 0, snap_meta_tree_oid = 0;
  std::uint64_t num_files = 0, num_directories = 0, num_symlinks = 0, num_snapshots = 0;
  std::array<Byte, 16> vol_uuid = {};
  std::uint64_t last_mod_time = 0, fs_flags = 0;
  std::array<Byte, 32> formatted_by = {};
  std::array<Byte, 256> volname = {};
  std::uint16_t role = 0;
  std::uint64_t fext_tree_oid = 0;
  std::uint32_t fext_tree_type = 0;
  static constexpr std::uint32_t mark = 0x42535041;  // "APSB"
  static constexpr std::size_t size = 1056;
  // Bits of incompatible_features and fs_flags.
  static constexpr std::uint64_t case_insensitive = 1, normalization_insensitive = 8, sealed = 0x20;
  static constexpr std::uint64_t unencrypted = 1, one_key = 8;
  static constexpr auto layout = little_endian(
      from_byte<32>(), field("apfs_magic", &VolumeSuper::magic),
      field("apfs_fs_index", &VolumeSuper::fs_index), from_byte<56>(),
      field("apfs_incompatible_features", &VolumeSuper::incompatible_features),
      field("apfs_unmount_time", &VolumeSuper::unmount_time), from_byte<88>(),
      field("apfs_fs_alloc_count", &VolumeSuper::fs_alloc_count), from_byte<116>(),
      field("apfs_root_tree_type", &VolumeSuper::root_tree_type), from_byte<124>(),
      field("apfs_snap_meta_tree_type", &VolumeSuper::snap_meta_tree_type),
      field("apfs_omap_oid", &VolumeSuper::omap_oid),
      field("apfs_root_tree_oid", &VolumeSuper::root_tree_oid), from_byte<152>(),
      field("apfs_snap_meta_tree_oid", &VolumeSuper::snap_meta_tree_oid), from_byte<184>(),
      field("apfs_num_files", &VolumeSuper::num_files),
      field("apfs_num_directories", &VolumeSuper::num_directories),
      field("apfs_num_symlinks", &VolumeSuper::num_symlinks), from_byte<216>(),
      field("apfs_num_snapshots", &VolumeSuper::num_snapshots), from_byte<240>(),
      field("apfs_vol_uuid", &VolumeSuper::vol_uuid),
      field("apfs_last_mod_time", &VolumeSuper::last_mod_time),
      field("apfs_fs_flags", &VolumeSuper::fs_flags),
      field("apfs_formatted_by.id", &VolumeSuper::formatted_by), from_byte<704>(),
      field("apfs_volname", &VolumeSuper::volname), from_byte<964>(), field("apfs_role", &VolumeSuper::role),
      from_byte<1032>(), field("apfs_fext_tree_oid", &VolumeSuper::fext_tree_oid),
      field("apfs_fext_tree_type", &VolumeSuper::fext_tree_type));
};

/// An object map (omap_phys_t).
struct ObjectMapHead {
  std::uint32_t flags = 0, tree_type = 0;
  std::uint64_t tree_oid = 0;
  static constexpr auto layout =
      little_endian(from_byte<32>(), field("om_flags", &ObjectMapHead::flags), from_byte<40>(),
                    field("om_tree_type", &ObjectMapHead::tree_type), from_byte<48>(),
                    field("om_tree_oid", &ObjectMapHead::tree_oid));
};

/// What an object map is asked by (omap_key_t).
struct ObjectKey {
  std::uint64_t oid = 0, xid = 0;
  static constexpr auto layout =
      little_endian(field("ok_oid", &ObjectKey::oid), field("ok_xid", &ObjectKey::xid));
};

/// What a key of an index leads to: the node below.
struct ChildRecord {
  std::uint64_t oid = 0;
  static constexpr auto layout = little_endian(field("oid", &ChildRecord::oid));
};

/// A run of blocks (prange_t).
struct BlockRange {
  std::uint64_t start_paddr = 0, block_count = 0;
  static constexpr auto layout = little_endian(field("pr_start_paddr", &BlockRange::start_paddr),
                                               field("pr_block_count", &BlockRange::block_count));
};

/// Where objects that live in memory were put (checkpoint_map_phys_t); its rows follow.
struct CheckpointMap {
  std::uint32_t flags = 0, count = 0;
  static constexpr auto layout = little_endian(from_byte<32>(), field("cpm_flags", &CheckpointMap::flags),
                                               field("cpm_count", &CheckpointMap::count));
};
/// An object that lives in memory, and where it was put (checkpoint_mapping_t).
struct CheckpointRow {
  std::uint32_t type = 0, subtype = 0, size = 0;
  std::uint64_t fs_oid = 0, oid = 0, paddr = 0;
  static constexpr auto layout = little_endian(
      field("cpm_type", &CheckpointRow::type), field("cpm_subtype", &CheckpointRow::subtype),
      field("cpm_size", &CheckpointRow::size), from_byte<16>(), field("cpm_fs_oid", &CheckpointRow::fs_oid),
      field("cpm_oid", &CheckpointRow::oid), field("cpm_paddr", &CheckpointRow::paddr));
};

/// The space manager (spaceman_phys_t), as far as its count of free blocks of the main device.
struct SpaceManager {
  std::uint64_t free_count = 0;
  static constexpr auto layout =
      little_endian(from_byte<72>(), field("sm_dev[SD_MAIN].sm_free_count", &SpaceManager::free_count));
};

/// Where an object map says an object lies (omap_val_t).
struct MappedObject {
  std::uint32_t flags = 0, size = 0;
  std::uint64_t paddr = 0;
  static constexpr std::uint32_t deleted = 1, encrypted = 4, no_header = 8;  // of flags
  static constexpr auto layout =
      little_endian(field("ov_flags", &MappedObject::flags), field("ov_size", &MappedObject::size),
                    field("ov_paddr", &MappedObject::paddr));
};

/// A node of a B-tree, up to its table of contents (btree_node_phys_t). Keys grow from behind the table on,
/// values from the node's end backwards; the root has a btree_info_t behind its values.
struct NodeHead {
  std::uint16_t flags = 0, level = 0;
  std::uint32_t nkeys = 0;
  std::uint16_t table_space_off = 0, table_space_len = 0;
  static constexpr std::uint16_t root = 1, leaf = 2, fixed_size = 4, hashed = 8, no_header = 16;  // of flags
  static constexpr std::size_t size = 56, info_size = 40;
  static constexpr auto layout = little_endian(
      from_byte<32>(), field("btn_flags", &NodeHead::flags), field("btn_level", &NodeHead::level),
      field("btn_nkeys", &NodeHead::nkeys), field("btn_table_space.off", &NodeHead::table_space_off),
      field("btn_table_space.len", &NodeHead::table_space_len));
};

/// Kinds of records in a volume's tree, in the uppermost four bits of a key (j_obj_types).
enum class RecordType : std::uint8_t {
  snap_metadata = 1,
  inode = 3,
  xattr = 4,
  file_extent = 8,
  dir_rec = 9,
};
constexpr std::uint64_t kIdMask = 0x0FFFFFFFFFFFFFFF;  ///< OBJ_ID_MASK

/// What each key of a volume's tree begins with (j_key_t): whose record it is, and above it of which kind.
struct RecordKey {
  std::uint64_t obj_id_and_type = 0;
  static constexpr auto layout = little_endian(field("obj_id_and_type", &RecordKey::obj_id_and_type));
};

/// A key of a run of a file (j_file_extent_key_t, fext_tree_key_t).
struct ExtentKey {
  std::uint64_t id = 0, logical_addr = 0;
  static constexpr auto layout =
      little_endian(field("id", &ExtentKey::id), field("logical_addr", &ExtentKey::logical_addr));
};

/// A key with a name (j_xattr_key_t, j_drec_key_t, without the name).
struct NamedKey {
  std::uint64_t obj_id_and_type = 0;
  std::uint16_t name_len = 0;
  static constexpr auto layout = little_endian(field("obj_id_and_type", &NamedKey::obj_id_and_type),
                                               field("name_len", &NamedKey::name_len));
};

/// A key with a name and its hash (j_drec_hashed_key_t, without the name).
struct HashedNameKey {
  std::uint64_t obj_id_and_type = 0;
  std::uint32_t name_len_and_hash = 0;
  static constexpr std::uint32_t length_mask = 0x3FF;
  static constexpr auto layout = little_endian(field("obj_id_and_type", &HashedNameKey::obj_id_and_type),
                                               field("name_len_and_hash", &HashedNameKey::name_len_and_hash));
};

/// An extended attribute's value (j_xattr_val_t, without its bytes).
struct AttributeRecord {
  std::uint16_t flags = 0, xdata_len = 0;
  static constexpr std::uint16_t streamed = 1;  // of flags: XATTR_DATA_STREAM
  static constexpr auto layout =
      little_endian(field("flags", &AttributeRecord::flags), field("xdata_len", &AttributeRecord::xdata_len));
};

/// The stream that holds a long attribute (j_xattr_dstream_t), up to its size.
struct AttributeStream {
  std::uint64_t xattr_obj_id = 0, size = 0;
  static constexpr auto layout = little_endian(field("xattr_obj_id", &AttributeStream::xattr_obj_id),
                                               field("dstream.size", &AttributeStream::size));
};

/// Extended fields behind a record (xf_blob_t): a head, a row for each (x_field_t), then their values, each
/// filled up to eight bytes.
struct FieldsHead {
  std::uint16_t num_exts = 0, used_data = 0;
  static constexpr auto layout = little_endian(field("xf_num_exts", &FieldsHead::num_exts),
                                               field("xf_used_data", &FieldsHead::used_data));
};
/// The kind and size of an extended field (x_field_t).
struct FieldRow {
  std::uint8_t type = 0, flags = 0;
  std::uint16_t size = 0;
  static constexpr auto layout = little_endian(
      field("x_type", &FieldRow::type), field("x_flags", &FieldRow::flags), field("x_size", &FieldRow::size));
};

/// Extended fields that are one number: bytes of holes (INO_EXT_TYPE_SPARSE_BYTES), a device
/// (INO_EXT_TYPE_RDEV).
struct SparseBytes {
  std::uint64_t count = 0;
  static constexpr auto layout = little_endian(field("sparse bytes", &SparseBytes::count));
};
/// A device's number (INO_EXT_TYPE_RDEV).
struct DeviceNumber {
  std::uint32_t rdev = 0;
  static constexpr auto layout = little_endian(field("rdev", &DeviceNumber::rdev));
};

/// An inode (j_inode_val_t), without its extended fields.
struct InodeRecord {
  std::uint64_t parent_id = 0, private_id = 0, create_time = 0, mod_time = 0, change_time = 0,
                access_time = 0;
  std::uint64_t internal_flags = 0;
  std::uint32_t nlink = 0, bsd_flags = 0, owner = 0, group = 0;
  std::uint16_t mode = 0;
  std::uint64_t uncompressed_size = 0;
  static constexpr std::uint32_t packed = 0x20;  // of bsd_flags: UF_COMPRESSED
  static constexpr std::uint64_t has_uncompressed_size = 0x40000;
  static constexpr auto layout = little_endian(
      field("parent_id", &InodeRecord::parent_id), field("private_id", &InodeRecord::private_id),
      field("create_time", &InodeRecord::create_time), field("mod_time", &InodeRecord::mod_time),
      field("change_time", &InodeRecord::change_time), field("access_time", &InodeRecord::access_time),
      field("internal_flags", &InodeRecord::internal_flags), field("nlink", &InodeRecord::nlink),
      from_byte<68>(), field("bsd_flags", &InodeRecord::bsd_flags), field("owner", &InodeRecord::owner),
      field("group", &InodeRecord::group), field("mode", &InodeRecord::mode), from_byte<84>(),
      field("uncompressed_size", &InodeRecord::uncompressed_size));
};

/// The size of a stream of data (j_dstream_t), as an extended field and in attributes.
struct StreamSize {
  std::uint64_t size = 0, alloced_size = 0;
  static constexpr auto layout =
      little_endian(field("size", &StreamSize::size), field("alloced_size", &StreamSize::alloced_size));
};

/// A run of a file (j_file_extent_val_t, without its crypto_id, and fext_tree_val_t).
struct ExtentRecord {
  std::uint64_t len_and_flags = 0, phys_block_num = 0;
  static constexpr std::uint64_t length_mask = 0x00FFFFFFFFFFFFFF;
  static constexpr auto layout = little_endian(field("len_and_flags", &ExtentRecord::len_and_flags),
                                               field("phys_block_num", &ExtentRecord::phys_block_num));
};

/// What a name in a folder stands for (j_drec_val_t).
struct NameRecord {
  std::uint64_t file_id = 0, date_added = 0;
  std::uint16_t flags = 0;
  static constexpr std::uint16_t type_mask = 0xF;
  static constexpr auto layout =
      little_endian(field("file_id", &NameRecord::file_id), field("date_added", &NameRecord::date_added),
                    field("flags", &NameRecord::flags));
};

/// A snapshot (j_snap_metadata_val_t), in front of its name.
struct SnapshotRecord {
  std::uint64_t extentref_tree_oid = 0, sblock_oid = 0, create_time = 0;
  std::uint16_t name_len = 0;
  static constexpr auto layout = little_endian(
      field("extentref_tree_oid", &SnapshotRecord::extentref_tree_oid),
      field("sblock_oid", &SnapshotRecord::sblock_oid), field("create_time", &SnapshotRecord::create_time),
      from_byte<48>(), field("name_len", &SnapshotRecord::name_len));
};

}  // namespace operculum::apfs

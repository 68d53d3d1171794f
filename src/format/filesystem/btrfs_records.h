#pragma once

#include "base/structure.h"

/// The records of btrfs, with the names of its on-disk format documentation (btrfs.readthedocs.io, "On-disk
/// Format" and "Btree Items"). All numbers are little-endian.
///
///   64 KiB: superblock | nodes and data, wherever a chunk puts them
///
/// Everything is an item in a tree, found by a key of three numbers. Addresses are logical; the chunk tree
/// says where a stretch of them lies on which device. A node holds keys with pointers to nodes, a leaf keys
/// with the places of its items, which fill it from its end.
namespace operculum::btrfs {

/// Where the superblock lies, and its size in bytes.
constexpr std::uint64_t kSuperAt = 64 << 10;
constexpr std::size_t kSuperSize = 4096;
constexpr std::size_t kSumSize = 32;  // of the field in front of superblock and nodes

constexpr std::string_view kMagic = "_BHRfS_M";

/// struct btrfs_super_block; the first chunks follow.
struct SuperRecord {
  std::array<Byte, 16> fsid{};
  std::array<Byte, 8> magic{};
  std::uint64_t generation = 0, root = 0, chunk_root = 0, log_root = 0, total_bytes = 0, bytes_used = 0,
                num_devices = 0;
  std::uint32_t sectorsize = 0, nodesize = 0, sys_chunk_array_size = 0;
  std::uint64_t incompat_flags = 0;
  std::uint16_t csum_type = 0;
  std::uint8_t root_level = 0, chunk_root_level = 0, log_root_level = 0;
  std::uint64_t devid = 0, device_bytes = 0;
  std::array<Byte, 16> device_uuid{};
  std::array<Byte, 256> label{};
  static constexpr auto layout = little_endian(
      from_byte<kSumSize>(), field("fsid", &SuperRecord::fsid), from_byte<64>(),
      field("magic", &SuperRecord::magic), field("generation", &SuperRecord::generation),
      field("root", &SuperRecord::root), field("chunk_root", &SuperRecord::chunk_root),
      field("log_root", &SuperRecord::log_root), from_byte<112>(),
      field("total_bytes", &SuperRecord::total_bytes), field("bytes_used", &SuperRecord::bytes_used),
      from_byte<136>(), field("num_devices", &SuperRecord::num_devices),
      field("sectorsize", &SuperRecord::sectorsize), field("nodesize", &SuperRecord::nodesize),
      from_byte<160>(), field("sys_chunk_array_size", &SuperRecord::sys_chunk_array_size), from_byte<188>(),
      field("incompat_flags", &SuperRecord::incompat_flags), field("csum_type", &SuperRecord::csum_type),
      field("root_level", &SuperRecord::root_level),
      field("chunk_root_level", &SuperRecord::chunk_root_level),
      field("log_root_level", &SuperRecord::log_root_level), field("dev_item.devid", &SuperRecord::devid),
      field("dev_item.total_bytes", &SuperRecord::device_bytes), from_byte<267>(),
      field("dev_item.uuid", &SuperRecord::device_uuid), from_byte<299>(),
      field("label", &SuperRecord::label), from_byte<811>());
};

/// struct btrfs_disk_key.
struct KeyRecord {
  std::uint64_t objectid = 0;
  std::uint8_t type = 0;
  std::uint64_t offset = 0;
  static constexpr auto layout =
      little_endian(field("objectid", &KeyRecord::objectid), field("type", &KeyRecord::type),
                    field("offset", &KeyRecord::offset));
};
constexpr std::size_t kKeySize = size_on_disk<KeyRecord>;

/// struct btrfs_header.
struct NodeHead {
  std::uint64_t bytenr = 0;
  std::uint32_t nritems = 0;
  std::uint8_t level = 0;
  static constexpr auto layout =
      little_endian(from_byte<48>(), field("bytenr", &NodeHead::bytenr), from_byte<96>(),
                    field("nritems", &NodeHead::nritems), field("level", &NodeHead::level));
};
constexpr std::size_t kNodeHead = size_on_disk<NodeHead>;

/// What follows a key in a leaf: where its item lies, from the end of the head on.
struct LeafRest {
  std::uint32_t offset = 0, size = 0;
  static constexpr auto layout =
      little_endian(field("offset", &LeafRest::offset), field("size", &LeafRest::size));
};
/// What follows a key in other nodes.
struct PointerRest {
  std::uint64_t blockptr = 0, generation = 0;
  static constexpr auto layout =
      little_endian(field("blockptr", &PointerRest::blockptr), field("generation", &PointerRest::generation));
};

/// struct btrfs_root_item, as far as all of them go.
struct RootItem {
  std::uint64_t bytenr = 0, flags = 0;
  std::uint8_t level = 0;
  static constexpr auto layout =
      little_endian(from_byte<176>(), field("bytenr", &RootItem::bytenr), from_byte<208>(),
                    field("flags", &RootItem::flags), from_byte<238>(), field("level", &RootItem::level));
};
/// What later kernels added to it.
struct LongRootItem {
  static constexpr std::uint64_t kReadOnly = 1;  // in `flags`
  std::uint64_t flags = 0;
  std::array<Byte, 16> parent_uuid{};
  std::uint64_t otime_sec = 0;
  std::uint32_t otime_nsec = 0;
  static constexpr auto layout =
      little_endian(from_byte<208>(), field("flags", &LongRootItem::flags), from_byte<263>(),
                    field("parent_uuid", &LongRootItem::parent_uuid), from_byte<339>(),
                    field("otime.sec", &LongRootItem::otime_sec),
                    field("otime.nsec", &LongRootItem::otime_nsec), from_byte<439>());
};

/// struct btrfs_root_ref; the name follows.
struct RootRef {
  std::uint64_t dirid = 0, sequence = 0;
  std::uint16_t name_len = 0;
  static constexpr auto layout =
      little_endian(field("dirid", &RootRef::dirid), field("sequence", &RootRef::sequence),
                    field("name_len", &RootRef::name_len));
};

/// struct btrfs_inode_item.
struct InodeItem {
  std::uint64_t size = 0, nbytes = 0;
  std::uint32_t nlink = 0, uid = 0, gid = 0, mode = 0;
  std::uint64_t rdev = 0, flags = 0, atime_sec = 0, ctime_sec = 0, mtime_sec = 0, otime_sec = 0;
  std::uint32_t atime_nsec = 0, ctime_nsec = 0, mtime_nsec = 0, otime_nsec = 0;
  static constexpr auto layout =
      little_endian(from_byte<16>(), field("size", &InodeItem::size), field("nbytes", &InodeItem::nbytes),
                    from_byte<40>(), field("nlink", &InodeItem::nlink), field("uid", &InodeItem::uid),
                    field("gid", &InodeItem::gid), field("mode", &InodeItem::mode),
                    field("rdev", &InodeItem::rdev), field("flags", &InodeItem::flags), from_byte<112>(),
                    field("atime.sec", &InodeItem::atime_sec), field("atime.nsec", &InodeItem::atime_nsec),
                    field("ctime.sec", &InodeItem::ctime_sec), field("ctime.nsec", &InodeItem::ctime_nsec),
                    field("mtime.sec", &InodeItem::mtime_sec), field("mtime.nsec", &InodeItem::mtime_nsec),
                    field("otime.sec", &InodeItem::otime_sec), field("otime.nsec", &InodeItem::otime_nsec));
};

/// struct btrfs_file_extent_item up to where the kinds part; the bytes of an inline one follow.
struct ExtentHead {
  enum Type : std::uint8_t { within, regular, preallocated };
  std::uint64_t ram_bytes = 0;
  std::uint8_t compression = 0, encryption = 0;
  std::uint16_t other_encoding = 0;
  std::uint8_t type = 0;
  static constexpr auto layout = little_endian(
      from_byte<8>(), field("ram_bytes", &ExtentHead::ram_bytes),
      field("compression", &ExtentHead::compression), field("encryption", &ExtentHead::encryption),
      field("other_encoding", &ExtentHead::other_encoding), field("type", &ExtentHead::type));
};
/// What the others have behind it.
struct ExtentRest {
  std::uint64_t disk_bytenr = 0, disk_num_bytes = 0, offset = 0, num_bytes = 0;
  static constexpr auto layout = little_endian(
      field("disk_bytenr", &ExtentRest::disk_bytenr), field("disk_num_bytes", &ExtentRest::disk_num_bytes),
      field("offset", &ExtentRest::offset), field("num_bytes", &ExtentRest::num_bytes));
};

/// struct btrfs_dir_item, behind its key; name and data follow.
struct NameItem {
  std::uint64_t transid = 0;
  std::uint16_t data_len = 0, name_len = 0;
  std::uint8_t type = 0;
  static constexpr auto layout =
      little_endian(field("transid", &NameItem::transid), field("data_len", &NameItem::data_len),
                    field("name_len", &NameItem::name_len), field("type", &NameItem::type));
};

/// struct btrfs_chunk; the stripes follow.
struct ChunkItem {
  std::uint64_t length = 0, stripe_len = 0, type = 0;
  std::uint16_t num_stripes = 0, sub_stripes = 0;
  static constexpr auto layout = little_endian(
      field("length", &ChunkItem::length), from_byte<16>(), field("stripe_len", &ChunkItem::stripe_len),
      field("type", &ChunkItem::type), from_byte<44>(), field("num_stripes", &ChunkItem::num_stripes),
      field("sub_stripes", &ChunkItem::sub_stripes));
};
/// struct btrfs_stripe.
struct StripeRecord {
  std::uint64_t devid = 0, offset = 0;
  std::array<Byte, 16> dev_uuid{};
  static constexpr auto layout =
      little_endian(field("devid", &StripeRecord::devid), field("offset", &StripeRecord::offset),
                    field("dev_uuid", &StripeRecord::dev_uuid));
};

}  // namespace operculum::btrfs

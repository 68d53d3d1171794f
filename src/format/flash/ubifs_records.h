#pragma once

#include "base/structure.h"

/// The nodes of UBIFS (Linux kernel, fs/ubifs/ubifs-media.h), with the kernel's names; the media type of a
/// node is `node_type`. All begin with the common header; sums are CRC-32 over what follows the sum itself,
/// without the inversion at the end.
namespace operculum::ubifs {

constexpr std::uint32_t kNodeMagic = 0x06101831;
constexpr std::size_t node_crc_end = 8;  ///< what is summed begins here

/// What a node is.
enum NodeType : std::uint8_t {
  inode = 0,
  data = 1,
  name = 2,
  extended = 3,
  truncation = 4,
  padding = 5,
  super = 6,
  master = 7,
  reference = 8,
  index = 9,
  commit_start = 10
};

/// ubifs_ch.
struct CommonHeader {
  std::uint32_t magic = 0, crc = 0;
  std::uint64_t sequence = 0;
  std::uint32_t length = 0;
  std::uint8_t node_type = 0;
  std::array<Byte, 3> rest{};
  static constexpr auto layout =
      little_endian(field("magic", &CommonHeader::magic), field("crc", &CommonHeader::crc),
                    field("sqnum", &CommonHeader::sequence), field("len", &CommonHeader::length),
                    field("node_type", &CommonHeader::node_type), field("group_type", &CommonHeader::rest));
};
constexpr std::size_t common_size = size_on_disk<CommonHeader>;

/// The simple key format: what it belongs to, and in three bits of what kind it is.
struct Key {
  std::uint32_t inode = 0, second = 0;
  static constexpr auto layout =
      little_endian(field("inum", &Key::inode), field("type and rest", &Key::second));
  std::uint32_t type() const { return second >> 29; }
  std::uint32_t rest() const { return second & 0x1FFFFFFF; }
};
/// What a key belongs to.
enum KeyType : std::uint32_t { inode_key = 0, data_key = 1, name_key = 2, extended_key = 3 };

/// ubifs_sb_node.
struct SuperNode {
  std::uint8_t key_hash = 0, key_format = 0;
  std::uint32_t flags = 0, min_io_size = 0, leb_size = 0, leb_count = 0, log_lebs = 0, format_version = 0;
  std::uint16_t default_packing = 0;
  std::array<Byte, 16> uuid{};
  static constexpr auto layout = little_endian(
      from_byte<26>(), field("key_hash", &SuperNode::key_hash), field("key_fmt", &SuperNode::key_format),
      field("flags", &SuperNode::flags), field("min_io_size", &SuperNode::min_io_size),
      field("leb_size", &SuperNode::leb_size), field("leb_cnt", &SuperNode::leb_count), from_byte<56>(),
      field("log_lebs", &SuperNode::log_lebs), from_byte<80>(),
      field("fmt_version", &SuperNode::format_version), field("default_compr", &SuperNode::default_packing),
      from_byte<108>(), field("uuid", &SuperNode::uuid));
  bool encrypted() const { return (flags & 0x10) != 0; }
  bool authenticated() const { return (flags & 0x20) != 0; }
};
constexpr std::uint32_t super_node_size = 4096;

/// ubifs_mst_node.
struct MasterNode {
  std::uint64_t commit = 0;
  std::uint32_t log_block = 0, root_block = 0, root_offset = 0, root_length = 0;
  static constexpr auto layout = little_endian(
      from_byte<32>(), field("cmt_no", &MasterNode::commit), from_byte<44>(),
      field("log_lnum", &MasterNode::log_block), field("root_lnum", &MasterNode::root_block),
      field("root_offs", &MasterNode::root_offset), field("root_len", &MasterNode::root_length));
};

/// ubifs_idx_node; branches follow, each with a hash behind it where the file system is authenticated.
struct IndexNode {
  std::uint16_t child_count = 0, level = 0;
  static constexpr auto layout =
      little_endian(from_byte<common_size>(), field("child_cnt", &IndexNode::child_count),
                    field("level", &IndexNode::level));
};
/// ubifs_branch; its key follows.
struct Branch {
  std::uint32_t block = 0, offset = 0, length = 0;
  static constexpr auto layout = little_endian(field("lnum", &Branch::block), field("offs", &Branch::offset),
                                               field("len", &Branch::length));
};

/// ubifs_dent_node; the name follows.
struct NameNode {
  std::uint64_t inode = 0;  ///< 0: the name is gone
  std::uint8_t type = 0;
  std::uint16_t length = 0;
  static constexpr auto layout =
      little_endian(from_byte<40>(), field("inum", &NameNode::inode), from_byte<49>(),
                    field("type", &NameNode::type), field("nlen", &NameNode::length));
};
constexpr std::size_t name_node_size = 56;

/// ubifs_ino_node; data within it follows: a link's target, a device's number.
struct InodeNode {
  std::uint64_t size = 0, modified = 0;
  std::uint32_t nanoseconds = 0, links = 0, uid = 0, gid = 0, mode = 0, flags = 0, data_length = 0;
  static constexpr auto layout = little_endian(
      from_byte<48>(), field("size", &InodeNode::size), from_byte<72>(),
      field("mtime_sec", &InodeNode::modified), from_byte<88>(), field("mtime_nsec", &InodeNode::nanoseconds),
      field("nlink", &InodeNode::links), field("uid", &InodeNode::uid), field("gid", &InodeNode::gid),
      field("mode", &InodeNode::mode), field("flags", &InodeNode::flags),
      field("data_len", &InodeNode::data_length));
};
constexpr std::size_t inode_node_size = 160;

/// ubifs_data_node; the packed block follows.
struct DataNode {
  std::uint32_t size = 0;
  std::uint16_t packing = 0, packed_size = 0;
  static constexpr auto layout =
      little_endian(from_byte<40>(), field("size", &DataNode::size), field("compr_type", &DataNode::packing),
                    field("compr_size", &DataNode::packed_size));
};

constexpr std::uint32_t data_block_size = 4096;  ///< UBIFS_BLOCK_SIZE

/// ubifs_trun_node.
struct TruncationNode {
  std::uint32_t inode = 0;
  std::uint64_t new_size = 0;
  static constexpr auto layout =
      little_endian(from_byte<common_size>(), field("inum", &TruncationNode::inode), from_byte<48>(),
                    field("new_size", &TruncationNode::new_size));
};

/// ubifs_pad_node.
struct PaddingNode {
  std::uint32_t length = 0;
  static constexpr auto layout =
      little_endian(from_byte<common_size>(), field("pad_len", &PaddingNode::length));
};

/// ubifs_cs_node and ubifs_ref_node, of the log.
struct CommitStart {
  std::uint64_t commit = 0;
  static constexpr auto layout =
      little_endian(from_byte<common_size>(), field("cmt_no", &CommitStart::commit));
};
/// ubifs_ref_node: an erase block of the journal.
struct Reference {
  std::uint32_t block = 0, offset = 0;
  static constexpr auto layout = little_endian(from_byte<common_size>(), field("lnum", &Reference::block),
                                               field("offs", &Reference::offset));
};

}  // namespace operculum::ubifs

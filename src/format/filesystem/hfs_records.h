#pragma once

#include "base/structure.h"

/// The records of HFS+ (Apple Technical Note TN1150), all big-endian:
///
///   boot blocks | volume header at byte 1024 | allocation blocks | a copy of the header, 1024 bytes from the
///   end
///
/// Names and places of files lie in the catalog, a B-tree; extents beyond a file's first eight in another
/// one, attributes in a third. HFS, which came before, has the same trees in nodes of 512 bytes with shorter
/// keys.
namespace operculum::hfs {

constexpr std::uint64_t header_at = 1024;
constexpr std::size_t header_size = 512;
constexpr std::uint16_t kPlusSignature = 0x482B, kExtendedSignature = 0x4858,
                        kClassicSignature = 0x4244;  // "H+", "HX", "BD"

/// HFSPlusExtentDescriptor, of which a record has eight.
struct ExtentDescriptor {
  std::uint32_t start_block = 0, block_count = 0;
  static constexpr auto layout = big_endian(field("startBlock", &ExtentDescriptor::start_block),
                                            field("blockCount", &ExtentDescriptor::block_count));
};
constexpr std::size_t extents_in_record = 8;

/// HFSPlusForkData up to its extents.
struct ForkData {
  std::uint64_t logical_size = 0;
  std::uint32_t clump_size = 0, total_blocks = 0;
  static constexpr auto layout =
      big_endian(field("logicalSize", &ForkData::logical_size), field("clumpSize", &ForkData::clump_size),
                 field("totalBlocks", &ForkData::total_blocks));
};
constexpr std::size_t fork_size = size_on_disk<ForkData> + extents_in_record * size_on_disk<ExtentDescriptor>;

/// HFSPlusVolumeHeader. Its forks follow: allocation, extents, catalog, attributes, start-up.
struct VolumeHeader {
  std::uint16_t signature = 0, version = 0;
  std::uint32_t attributes = 0, created = 0, modified = 0, file_count = 0, folder_count = 0, block_size = 0,
                total_blocks = 0, free_blocks = 0;
  static constexpr auto layout = big_endian(
      field("signature", &VolumeHeader::signature), field("version", &VolumeHeader::version),
      field("attributes", &VolumeHeader::attributes), from_byte<16>(),
      field("createDate", &VolumeHeader::created), field("modifyDate", &VolumeHeader::modified),
      from_byte<32>(), field("fileCount", &VolumeHeader::file_count),
      field("folderCount", &VolumeHeader::folder_count), field("blockSize", &VolumeHeader::block_size),
      field("totalBlocks", &VolumeHeader::total_blocks), field("freeBlocks", &VolumeHeader::free_blocks));
};
/// Bits of attributes.
enum VolumeAttribute : std::uint32_t {
  volume_unmounted = 1 << 8,
  boot_volume_inconsistent = 1 << 11,
  volume_journaled = 1 << 13,
};
constexpr std::size_t forks_at = 112, extents_fork_at = forks_at + fork_size,
                      catalog_fork_at = extents_fork_at + fork_size,
                      attributes_fork_at = catalog_fork_at + fork_size;

/// The master directory block of HFS ("Inside Macintosh: Files"), in which an HFS+ volume may be embedded.
struct MasterBlock {
  std::uint16_t magic = 0;
  std::uint32_t made = 0, modified = 0;
  std::uint16_t attributes = 0, blocks = 0;
  std::uint32_t block_size = 0;
  std::uint16_t first_block = 0, free_blocks = 0;
  std::array<Byte, 28> name = {};  ///< its length, then the characters
  std::uint16_t embedded = 0, embedded_start = 0, embedded_count = 0;
  std::uint32_t extents_size = 0, catalog_size = 0;
  std::array<Byte, 12> extents = {}, catalog = {};
  static constexpr auto layout = big_endian(
      field("drSigWord", &MasterBlock::magic), field("drCrDate", &MasterBlock::made),
      field("drLsMod", &MasterBlock::modified), field("drAtrb", &MasterBlock::attributes), from_byte<18>(),
      field("drNmAlBlks", &MasterBlock::blocks), field("drAlBlkSiz", &MasterBlock::block_size),
      from_byte<28>(), field("drAlBlSt", &MasterBlock::first_block), from_byte<34>(),
      field("drFreeBks", &MasterBlock::free_blocks), field("drVN", &MasterBlock::name), from_byte<124>(),
      field("drEmbedSigWord", &MasterBlock::embedded),
      field("drEmbedExtent.startBlock", &MasterBlock::embedded_start),
      field("drEmbedExtent.blockCount", &MasterBlock::embedded_count),
      field("drXTFlSize", &MasterBlock::extents_size), field("drXTExtRec", &MasterBlock::extents),
      field("drCTFlSize", &MasterBlock::catalog_size), field("drCTExtRec", &MasterBlock::catalog));
  bool wraps() const { return magic == kClassicSignature && embedded == kPlusSignature; }
};

// ---- B-trees

/// BTNodeDescriptor. Where its records begin is told at the end of the node, the first one last.
struct NodeDescriptor {
  std::uint32_t next = 0, previous = 0;
  std::uint8_t kind = 0, height = 0;
  std::uint16_t record_count = 0, reserved = 0;
  static constexpr auto layout = big_endian(
      field("fLink", &NodeDescriptor::next), field("bLink", &NodeDescriptor::previous),
      field("kind", &NodeDescriptor::kind), field("height", &NodeDescriptor::height),
      field("numRecords", &NodeDescriptor::record_count), field("reserved", &NodeDescriptor::reserved));
};
/// What a node of a tree is.
enum NodeKind : std::uint8_t { index_node = 0, header_node = 1, leaf_node = 0xFF };

/// BTHeaderRec, behind the descriptor of the first node.
struct TreeHeader {
  std::uint16_t depth = 0;
  std::uint32_t root = 0, leaf_records = 0, first_leaf = 0, last_leaf = 0;
  std::uint16_t node_size = 0, max_key_length = 0;
  std::uint32_t total_nodes = 0;
  static constexpr auto layout = big_endian(
      from_byte<size_on_disk<NodeDescriptor>>(), field("treeDepth", &TreeHeader::depth),
      field("rootNode", &TreeHeader::root), field("leafRecords", &TreeHeader::leaf_records),
      field("firstLeafNode", &TreeHeader::first_leaf), field("lastLeafNode", &TreeHeader::last_leaf),
      field("nodeSize", &TreeHeader::node_size), field("maxKeyLength", &TreeHeader::max_key_length),
      field("totalNodes", &TreeHeader::total_nodes));
};

// Keys, behind their length.

/// HFSPlusExtentKey.
struct ExtentKey {
  std::uint8_t fork_kind = 0;
  std::uint32_t file = 0, start_block = 0;
  static constexpr auto layout =
      big_endian(field("forkType", &ExtentKey::fork_kind), from_byte<2>(), field("fileID", &ExtentKey::file),
                 field("startBlock", &ExtentKey::start_block));
};

/// HFSPlusCatalogKey; the name follows in UTF-16.
struct CatalogKey {
  std::uint32_t parent = 0;
  std::uint16_t name_length = 0;
  static constexpr auto layout =
      big_endian(field("parentID", &CatalogKey::parent), field("nodeName.length", &CatalogKey::name_length));
};

/// HFSPlusAttrKey; the name follows in UTF-16.
struct AttributeKey {
  std::uint32_t file = 0, start_block = 0;
  std::uint16_t name_length = 0;
  static constexpr auto layout = big_endian(from_byte<2>(), field("fileID", &AttributeKey::file),
                                            field("startBlock", &AttributeKey::start_block),
                                            field("attrNameLen", &AttributeKey::name_length));
};

/// What each record of the catalog begins with.
struct RecordKind {
  std::uint16_t kind = 0;
  static constexpr auto layout = big_endian(field("recordType", &RecordKind::kind));
};

/// What each record of the attributes begins with.
struct AttributeKind {
  std::uint32_t kind = 0;
  static constexpr auto layout = big_endian(field("recordType", &AttributeKind::kind));
};

/// What a key of an index leads to: the node below.
struct ChildNode {
  std::uint32_t node = 0;
  static constexpr auto layout = big_endian(field("node", &ChildNode::node));
};

/// What each record of a tree begins with: the length of its key.
struct KeyLength {
  std::uint16_t length = 0;
  static constexpr auto layout = big_endian(field("keyLength", &KeyLength::length));
};

/// What HFSPlusCatalogFolder and HFSPlusCatalogFile have in common.
struct CatalogRecord {
  std::uint16_t kind = 0;
  std::uint32_t id = 0, created = 0, modified = 0, changed = 0, accessed = 0, owner = 0, group = 0;
  std::uint8_t owner_flags = 0;
  std::uint16_t mode = 0;
  std::uint32_t special = 0;
  static constexpr auto layout = big_endian(
      field("recordType", &CatalogRecord::kind), from_byte<8>(), field("fileID", &CatalogRecord::id),
      field("createDate", &CatalogRecord::created), field("contentModDate", &CatalogRecord::modified),
      field("attributeModDate", &CatalogRecord::changed), field("accessDate", &CatalogRecord::accessed),
      from_byte<32>(), field("bsdInfo.ownerID", &CatalogRecord::owner),
      field("bsdInfo.groupID", &CatalogRecord::group), from_byte<41>(),
      field("bsdInfo.ownerFlags", &CatalogRecord::owner_flags),
      field("bsdInfo.fileMode", &CatalogRecord::mode), field("bsdInfo.special", &CatalogRecord::special));
};
/// What a record of the catalog stands for; others are threads.
enum CatalogRecordKind : std::uint16_t { folder_record = 1, file_record = 2 };

/// What of HFSPlusCatalogFile comes behind that; its forks follow.
struct FileInfo {
  std::uint32_t type = 0, creator = 0;
  static constexpr auto layout = big_endian(from_byte<48>(), field("userInfo.fdType", &FileInfo::type),
                                            field("userInfo.fdCreator", &FileInfo::creator));
};
constexpr std::size_t data_fork_at = 88, resource_fork_at = data_fork_at + fork_size;

/// HFSPlusAttrInlineData; the value follows. In the other kind a ForkData lies where this has its room.
struct InlineAttribute {
  std::uint32_t kind = 0, size = 0;
  static constexpr auto layout = big_endian(field("recordType", &InlineAttribute::kind), from_byte<12>(),
                                            field("attrSize", &InlineAttribute::size));
};
/// Where an attribute's value lies.
enum AttributeRecordKind : std::uint32_t { inline_attribute = 0x10, fork_attribute = 0x20 };
constexpr std::size_t attribute_fork_at = 8;

/// decmpfs: the attribute of a packed file; small contents follow.
struct PackingAttribute {
  std::uint32_t magic = 0, type = 0;
  std::uint64_t size = 0;
  static constexpr auto layout = little_endian(field("compression_magic", &PackingAttribute::magic),
                                               field("compression_type", &PackingAttribute::type),
                                               field("uncompressed_size", &PackingAttribute::size));
};

/// In front of a resource fork.
struct ResourceHeader {
  std::uint32_t data_at = 0, map_at = 0, data_size = 0, map_size = 0;
  static constexpr auto layout = big_endian(
      field("dataOffset", &ResourceHeader::data_at), field("mapOffset", &ResourceHeader::map_at),
      field("dataLength", &ResourceHeader::data_size), field("mapLength", &ResourceHeader::map_size));
};

/// A block of a packed file, in the table that begins its resource.
struct PackedBlock {
  std::uint32_t at = 0, size = 0;
  static constexpr auto layout =
      little_endian(field("offset", &PackedBlock::at), field("size", &PackedBlock::size));
};

}  // namespace operculum::hfs

#pragma once

#include "base/structure.h"

/// The records of a SquashFS 4.0 image, with the names of the Linux kernel's fs/squashfs/squashfs_fs.h:
///
///   superblock | options of the codec | data blocks and fragments | inodes | folders | fragments' places |
///   inodes by number | owners | extended attributes
///
/// All behind the data lies in metadata blocks of 8 KiB, packed one by one; the last four are tables that are
/// found through a list of their blocks' places. A reference is a block's place in its table, times 65,536,
/// plus an offset in the unpacked block.
namespace operculum::squash {

constexpr std::uint32_t kNoFragment = ~0U, kNoAttributes = ~0U;
constexpr std::uint64_t kNoTable = ~std::uint64_t{0};
constexpr std::uint64_t kMetaBlock = 8192;       // bytes of a metadata block, unpacked
constexpr std::uint16_t kMetaStored = 0x8000;    // in a metadata block's word: it is not packed
constexpr std::uint32_t kDataStored = 1U << 24;  // in a data block's word
constexpr std::uint32_t kMostRowsAHead = 256;    // rows of a folder that share a head
constexpr std::string_view kAttributePrefixes[] = {"user.", "trusted.", "security."};  // by their number

/// Kinds of inodes; the extended ones are seven more.
enum Type : std::uint16_t {
  folder = 1,
  file,
  link,
  block_device,
  character_device,
  fifo,
  socket,
  long_folder,
  long_file,
  long_link,
  long_block_device,
  long_character_device,
  long_fifo,
  long_socket,
};

/// Bits of the superblock's flags.
enum Flag : std::uint16_t {
  inodes_stored = 0x1,
  data_stored = 0x2,
  fragments_stored = 0x8,
  no_fragments = 0x10,
  always_fragments = 0x20,
  duplicates_once = 0x40,
  exportable = 0x80,
  attributes_stored = 0x100,
  no_attributes = 0x200,
  has_codec_options = 0x400,
  ids_stored = 0x800,
};

/// The superblock; places and sizes are bytes.
struct Super {
  std::uint32_t magic = 0x73717368, inodes = 0, made = 0, block_size = 0, fragments = 0;
  std::uint16_t method = 0, block_log = 0, flags = 0, ids = 0, major = 4, minor = 0;
  std::uint64_t root = 0, bytes_used = 0, id_table = 0, attribute_table = kNoTable, inode_table = 0,
                folder_table = 0, fragment_table = kNoTable, lookup_table = kNoTable;

  static constexpr auto layout = little_endian(
      field("s_magic", &Super::magic), field("inodes", &Super::inodes), field("mkfs_time", &Super::made),
      field("block_size", &Super::block_size), field("fragments", &Super::fragments),
      field("compression", &Super::method), field("block_log", &Super::block_log),
      field("flags", &Super::flags), field("no_ids", &Super::ids), field("s_major", &Super::major),
      field("s_minor", &Super::minor), field("root_inode", &Super::root),
      field("bytes_used", &Super::bytes_used), field("id_table_start", &Super::id_table),
      field("xattr_id_table_start", &Super::attribute_table), field("inode_table_start", &Super::inode_table),
      field("directory_table_start", &Super::folder_table),
      field("fragment_table_start", &Super::fragment_table),
      field("lookup_table_start", &Super::lookup_table));
};
constexpr std::size_t kSuperSize = 96;
static_assert(size_on_disk<Super> == kSuperSize);

/// What every inode begins with.
struct InodeHead {
  std::uint16_t type = 0, mode = 0, uid = 0, gid = 0;
  std::uint32_t time = 0, number = 0;
  static constexpr auto layout =
      little_endian(field("inode_type", &InodeHead::type), field("mode", &InodeHead::mode),
                    field("uid", &InodeHead::uid), field("guid", &InodeHead::gid),
                    field("mtime", &InodeHead::time), field("inode_number", &InodeHead::number));
};

/// A folder.
struct FolderInode {
  std::uint32_t start = 0, links = 0;
  std::uint16_t size = 0, offset = 0;
  std::uint32_t parent = 0;
  static constexpr auto layout =
      little_endian(field("start_block", &FolderInode::start), field("nlink", &FolderInode::links),
                    field("file_size", &FolderInode::size), field("offset", &FolderInode::offset),
                    field("parent_inode", &FolderInode::parent));
};

/// A folder with an index, or with attributes.
struct LongFolderInode {
  std::uint32_t links = 0, size = 0, start = 0, parent = 0;
  std::uint16_t indexes = 0, offset = 0;
  std::uint32_t attributes = kNoAttributes;
  static constexpr auto layout = little_endian(
      field("nlink", &LongFolderInode::links), field("file_size", &LongFolderInode::size),
      field("start_block", &LongFolderInode::start), field("parent_inode", &LongFolderInode::parent),
      field("i_count", &LongFolderInode::indexes), field("offset", &LongFolderInode::offset),
      field("xattr", &LongFolderInode::attributes));
};

/// Behind a long folder inode, a name each: where in the folder's rows a head lies.
struct FolderIndex {
  std::uint32_t index = 0, start = 0, size = 0;
  static constexpr auto layout =
      little_endian(field("index", &FolderIndex::index), field("start_block", &FolderIndex::start),
                    field("size", &FolderIndex::size));
};

/// The words of its blocks follow.
struct FileInode {
  std::uint32_t start = 0, fragment = 0, offset = 0, size = 0;
  static constexpr auto layout =
      little_endian(field("start_block", &FileInode::start), field("fragment", &FileInode::fragment),
                    field("offset", &FileInode::offset), field("file_size", &FileInode::size));
};

/// A file that is large, or has holes, several names or attributes.
struct LongFileInode {
  std::uint64_t start = 0, size = 0, sparse = 0;
  std::uint32_t links = 0, fragment = 0, offset = 0, attributes = 0;
  static constexpr auto layout =
      little_endian(field("start_block", &LongFileInode::start), field("file_size", &LongFileInode::size),
                    field("sparse", &LongFileInode::sparse), field("nlink", &LongFileInode::links),
                    field("fragment", &LongFileInode::fragment), field("offset", &LongFileInode::offset),
                    field("xattr", &LongFileInode::attributes));
};

/// The target follows, and behind it in the long form a number of attributes.
struct LinkInode {
  std::uint32_t links = 0, size = 0;
  static constexpr auto layout =
      little_endian(field("nlink", &LinkInode::links), field("symlink_size", &LinkInode::size));
};

/// A device.
struct DeviceInode {
  std::uint32_t links = 0, device = 0;
  static constexpr auto layout =
      little_endian(field("nlink", &DeviceInode::links), field("rdev", &DeviceInode::device));
};

/// In front of the rows of a folder that have their inodes in one metadata block.
struct FolderHead {
  std::uint32_t count = 0, start = 0, number = 0;  ///< count: of its rows, less one
  static constexpr auto layout =
      little_endian(field("count", &FolderHead::count), field("start_block", &FolderHead::start),
                    field("inode_number", &FolderHead::number));
};

/// Its name follows.
struct FolderRow {
  std::uint16_t offset = 0, number = 0, type = 0, size = 0;  ///< number: signed; size: of the name, less one
  static constexpr auto layout =
      little_endian(field("offset", &FolderRow::offset), field("inode_number", &FolderRow::number),
                    field("type", &FolderRow::type), field("size", &FolderRow::size));
};

/// Where a block of fragments lies.
struct FragmentRecord {
  std::uint64_t start = 0;
  std::uint32_t size = 0, unused = 0;
  static constexpr auto layout =
      little_endian(field("start_block", &FragmentRecord::start), field("size", &FragmentRecord::size),
                    field("unused", &FragmentRecord::unused));
};

/// In front of the list of the attribute table's blocks.
struct AttributeTableHead {
  std::uint64_t pairs = 0;
  std::uint32_t count = 0, unused = 0;
  static constexpr auto layout = little_endian(field("xattr_table_start", &AttributeTableHead::pairs),
                                               field("xattr_ids", &AttributeTableHead::count),
                                               field("unused", &AttributeTableHead::unused));
};

/// In front of an attribute's name (struct squashfs_xattr_entry); its value has its size in front.
struct AttributeKey {
  std::uint16_t type = 0, size = 0;
  static constexpr auto layout =
      little_endian(field("type", &AttributeKey::type), field("size", &AttributeKey::size));
};

/// All attributes of an inode.
struct AttributeRecord {
  std::uint64_t reference = 0;
  std::uint32_t count = 0, size = 0;
  static constexpr auto layout =
      little_endian(field("xattr", &AttributeRecord::reference), field("count", &AttributeRecord::count),
                    field("size", &AttributeRecord::size));
};

}  // namespace operculum::squash

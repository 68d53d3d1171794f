#pragma once

#include "base/bit_structure.h"

/// The records of SquashFS 2.x and 3.x, with the names of the headers that came with those versions
/// (squashfs_fs.h). An image is laid out like one of 4.0 (squashfs_records.h), and in the byte order of the
/// machine that it was made for; owners are a plain table of 32-bit numbers. Version 2 has places of 24 and
/// 32 bits where version 3 has 32 and 64.
namespace operculum::squash_old {

constexpr std::uint64_t kSameAsUser = 255;  // a group's index: the same number as the owner's
constexpr std::uint64_t kNoFragment = 0xFFFFFFFF;
constexpr std::uint64_t kMetaMarked = 1 << 2;  // a flag: a byte stands in front of each metadata block

/// The superblock as both versions have it.
struct Super {
  std::uint64_t magic = 0, inodes = 0, used = 0, users = 0, groups = 0, inode_table = 0, folder_table = 0,
                major = 0, minor = 0, block_size_1 = 0, block_log = 0, flags = 0, user_count = 0,
                group_count = 0, made = 0, root = 0, block_size = 0, fragments = 0, fragment_table = 0;
  static constexpr BitField<Super> layout[] = {{"s_magic", &Super::magic, 32},
                                               {"inodes", &Super::inodes, 32},
                                               {"bytes_used_2", &Super::used, 32},
                                               {"uid_start_2", &Super::users, 32},
                                               {"guid_start_2", &Super::groups, 32},
                                               {"inode_table_start_2", &Super::inode_table, 32},
                                               {"directory_table_start_2", &Super::folder_table, 32},
                                               {"s_major", &Super::major, 16},
                                               {"s_minor", &Super::minor, 16},
                                               {"block_size_1", &Super::block_size_1, 16},
                                               {"block_log", &Super::block_log, 16},
                                               {"flags", &Super::flags, 8},
                                               {"no_uids", &Super::user_count, 8},
                                               {"no_guids", &Super::group_count, 8},
                                               {"mkfs_time", &Super::made, 32},
                                               {"root_inode", &Super::root, 64},
                                               {"block_size", &Super::block_size, 32},
                                               {"fragments", &Super::fragments, 32},
                                               {"fragment_table_start_2", &Super::fragment_table, 32}};
};
constexpr std::size_t kSuperSize = bit_structure_size<Super>();
static_assert(kSuperSize == 63);

/// What follows it in version 3, in place of the numbers above.
struct WideSuper {
  std::uint64_t used = 0, users = 0, groups = 0, inode_table = 0, folder_table = 0, fragment_table = 0,
                lookup_table = 0;
  static constexpr BitField<WideSuper> layout[] = {{"bytes_used", &WideSuper::used, 64},
                                                   {"uid_start", &WideSuper::users, 64},
                                                   {"guid_start", &WideSuper::groups, 64},
                                                   {"inode_table_start", &WideSuper::inode_table, 64},
                                                   {"directory_table_start", &WideSuper::folder_table, 64},
                                                   {"fragment_table_start", &WideSuper::fragment_table, 64},
                                                   {"lookup_table_start", &WideSuper::lookup_table, 64}};
};

/// What every inode begins with.
struct InodeHead {
  std::uint64_t type = 0, mode = 0, user = 0, group = 0;
  static constexpr BitField<InodeHead> layout[] = {{"inode_type", &InodeHead::type, 4},
                                                   {"mode", &InodeHead::mode, 12},
                                                   {"uid", &InodeHead::user, 8},
                                                   {"guid", &InodeHead::group, 8}};
};

/// Behind it in version 3.
struct InodeNumber {
  std::uint64_t time = 0, number = 0;
  static constexpr BitField<InodeNumber> layout[] = {{"mtime", &InodeNumber::time, 32},
                                                     {"inode_number", &InodeNumber::number, 32}};
};

/// A count of links, as version 3 has it behind the common part.
struct Links {
  std::uint64_t count = 0;
  static constexpr BitField<Links> layout[] = {{"nlink", &Links::count, 32}};
};

/// The words of a file's blocks follow, in all three.
struct FileInode2 {
  std::uint64_t time = 0, start = 0, fragment = 0, offset = 0, size = 0;
  static constexpr BitField<FileInode2> layout[] = {{"mtime", &FileInode2::time, 32},
                                                    {"start_block", &FileInode2::start, 32},
                                                    {"fragment", &FileInode2::fragment, 32},
                                                    {"offset", &FileInode2::offset, 32},
                                                    {"file_size", &FileInode2::size, 32}};
};
/// A regular file in version 3.
struct FileInode3 {
  std::uint64_t start = 0, fragment = 0, offset = 0, size = 0;
  static constexpr BitField<FileInode3> layout[] = {{"start_block", &FileInode3::start, 64},
                                                    {"fragment", &FileInode3::fragment, 32},
                                                    {"offset", &FileInode3::offset, 32},
                                                    {"file_size", &FileInode3::size, 32}};
};
/// The same for files that are large or have several names.
struct LongFileInode3 {
  std::uint64_t links = 0, start = 0, fragment = 0, offset = 0, size = 0;
  static constexpr BitField<LongFileInode3> layout[] = {{"nlink", &LongFileInode3::links, 32},
                                                        {"start_block", &LongFileInode3::start, 64},
                                                        {"fragment", &LongFileInode3::fragment, 32},
                                                        {"offset", &LongFileInode3::offset, 32},
                                                        {"file_size", &LongFileInode3::size, 64}};
};

/// A folder in version 2.
struct FolderInode2 {
  std::uint64_t size = 0, offset = 0, time = 0, start = 0;
  static constexpr BitField<FolderInode2> layout[] = {{"file_size", &FolderInode2::size, 19},
                                                      {"offset", &FolderInode2::offset, 13},
                                                      {"mtime", &FolderInode2::time, 32},
                                                      {"start_block", &FolderInode2::start, 24}};
};
/// The same with an index.
struct LongFolderInode2 {
  std::uint64_t size = 0, offset = 0, time = 0, start = 0, indexes = 0;
  static constexpr BitField<LongFolderInode2> layout[] = {{"file_size", &LongFolderInode2::size, 27},
                                                          {"offset", &LongFolderInode2::offset, 13},
                                                          {"mtime", &LongFolderInode2::time, 32},
                                                          {"start_block", &LongFolderInode2::start, 24},
                                                          {"i_count", &LongFolderInode2::indexes, 16}};
};
/// A folder in version 3.
struct FolderInode3 {
  std::uint64_t links = 0, size = 0, offset = 0, start = 0, parent = 0;
  static constexpr BitField<FolderInode3> layout[] = {{"nlink", &FolderInode3::links, 32},
                                                      {"file_size", &FolderInode3::size, 19},
                                                      {"offset", &FolderInode3::offset, 13},
                                                      {"start_block", &FolderInode3::start, 32},
                                                      {"parent_inode", &FolderInode3::parent, 32}};
};
/// The same with an index.
struct LongFolderInode3 {
  std::uint64_t links = 0, size = 0, offset = 0, start = 0, indexes = 0, parent = 0;
  static constexpr BitField<LongFolderInode3> layout[] = {
      {"nlink", &LongFolderInode3::links, 32},     {"file_size", &LongFolderInode3::size, 27},
      {"offset", &LongFolderInode3::offset, 13},   {"start_block", &LongFolderInode3::start, 32},
      {"i_count", &LongFolderInode3::indexes, 16}, {"parent_inode", &LongFolderInode3::parent, 32}};
};

/// The target follows.
struct LinkInode {
  std::uint64_t size = 0;
  static constexpr BitField<LinkInode> layout[] = {{"symlink_size", &LinkInode::size, 16}};
};

/// A device's number.
struct DeviceInode {
  std::uint64_t device = 0;
  static constexpr BitField<DeviceInode> layout[] = {{"rdev", &DeviceInode::device, 16}};
};

/// In front of the rows of a folder that have their inodes in one metadata block.
struct FolderHead2 {
  std::uint64_t count = 0, start = 0;  ///< count: of its rows, less one
  static constexpr BitField<FolderHead2> layout[] = {{"count", &FolderHead2::count, 8},
                                                     {"start_block", &FolderHead2::start, 24}};
};
/// In front of names whose inodes lie in one block, in version 3.
struct FolderHead3 {
  std::uint64_t count = 0, start = 0, number = 0;
  static constexpr BitField<FolderHead3> layout[] = {{"count", &FolderHead3::count, 8},
                                                     {"start_block", &FolderHead3::start, 32},
                                                     {"inode_number", &FolderHead3::number, 32}};
};

/// Its name follows, and in version 3 a signed number of 16 bits comes in front of that.
struct FolderRow {
  std::uint64_t offset = 0, type = 0, size = 0;  ///< size: of the name, less one
  static constexpr BitField<FolderRow> layout[] = {
      {"offset", &FolderRow::offset, 13}, {"type", &FolderRow::type, 3}, {"size", &FolderRow::size, 8}};
};
constexpr std::size_t kRowNumberSize = 2;

/// Where a block of fragments lies, in version 2.
struct FragmentRecord2 {
  std::uint64_t start = 0, size = 0;
  static constexpr BitField<FragmentRecord2> layout[] = {{"start_block", &FragmentRecord2::start, 32},
                                                         {"size", &FragmentRecord2::size, 32}};
};
/// Where a block of fragments lies, in version 3.
struct FragmentRecord3 {
  std::uint64_t start = 0, size = 0, unused = 0;
  static constexpr BitField<FragmentRecord3> layout[] = {{"start_block", &FragmentRecord3::start, 64},
                                                         {"size", &FragmentRecord3::size, 32},
                                                         {"unused", &FragmentRecord3::unused, 32}};
};

}  // namespace operculum::squash_old

#pragma once

#include <functional>
#include <optional>
#include <tuple>

#include "base/time.h"
#include "container/container.h"
#include "format/filesystem/btrfs_records.h"
#include "format/filesystem/btrfs_sums.h"

namespace operculum::btrfs {

// The records and how they hang together: btrfs_records.h.

/// Whose item it is, of which kind, and a number that the kind gives a meaning.
struct Key {
  std::uint64_t objectid = 0;
  std::uint8_t type = 0;
  std::uint64_t offset = 0;
  bool operator<(const Key& other) const {
    return std::tie(objectid, type, offset) < std::tie(other.objectid, other.type, other.offset);
  }
};

/// Types of items that are read here.
enum ItemType : std::uint8_t {
  inode_item = 1,
  xattr_item = 24,
  dir_index = 96,
  extent_data = 108,
  extent_sum = 128,
  root_item = 132,
  root_backref = 144,
  chunk_item = 228,
};

/// Objects with numbers of their own.
constexpr std::uint64_t kFsTree = 5, kFirstFree = 256;

/// Where a tree begins.
struct Tree {
  std::uint64_t at = 0;  ///< logical
  std::uint8_t level = 0;
};

/// What the superblock tells.
struct Superblock {
  Bytes fsid, device_uuid;
  std::uint64_t generation = 0, total_bytes = 0, bytes_used = 0, devices = 0, device = 0, device_bytes = 0;
  Tree root, chunk_root, log_root;
  std::uint32_t sectorsize = 0, nodesize = 0;
  std::uint64_t incompat = 0;
  std::uint16_t sum_type = 0;
  std::string label;
  Bytes first_chunks;  ///< sys_chunk_array
};

/// What an inode item tells.
struct Inode {
  std::uint64_t number = 0, size = 0, bytes = 0, device = 0, flags = 0;
  std::uint32_t links = 0, uid = 0, gid = 0, mode = 0;
  Timestamp accessed, changed, modified, created;
};

/// A subvolume that began as a copy of another one.
struct Snapshot {
  std::uint64_t number = 0;
  std::string name;
  Timestamp made;
  bool read_only = false;
};

/// One item, while it is visited.
struct Item {
  Key key;
  ByteView data;
};

/// Throws Malformed unless the bytes, those from 64 KiB on, are a superblock that makes sense.
Superblock read_superblock(ByteView bytes);

/// The trees of a btrfs file system. Files keep it.
class Volume : public std::enable_shared_from_this<Volume> {
 public:
  /// `devices` are those that are there, this one too. Throws Malformed, Unsupported.
  Volume(Superblock super, Devices devices);

  const Superblock& super() const { return super_; }
  /// The data of files, by logical address; compared with its checksums.
  const SourcePtr& logical() const { return logical_; }

  /// Visits the items from `first` to `last`, by rising key, until the visitor says no. Throws Malformed
  /// where a node is damaged or lies on a device that is not there.
  void each_item(const Tree& tree, const Key& first, const Key& last,
                 const std::function<bool(const Item&)>& visit) const;

  /// The tree of a subvolume; nothing when there is none of that number.
  std::optional<Tree> subvolume(std::uint64_t number) const;

  /// All snapshots, by rising number.
  void snapshots(const std::function<void(const Snapshot&)>& take) const;

  Inode inode(const Tree& tree, std::uint64_t number) const;
  SourcePtr data(const Tree& tree, const Inode& inode) const;

 private:
  BytesPtr node(std::uint64_t at, unsigned level) const;
  Bytes read_node(std::uint64_t at, unsigned level, std::size_t copy) const;
  SectorSums find_sums(std::uint64_t logical, std::size_t count) const;
  struct Walk;
  bool walk(Walk& walk, std::uint64_t at, unsigned level) const;

  Superblock super_;
  std::shared_ptr<Chunks> chunks_;
  std::optional<Tree> sums_;  // the tree of checksums
  SourcePtr logical_;
  mutable BlockCache nodes_{16 << 20};
};

/// An item for a name: what it stands for, and for attributes the value.
struct Named {
  Key location;
  std::uint8_t type = 0;  ///< see kind_of_type(); 8: attribute
  std::string_view name, value;
};
/// Several may share an item. Throws Malformed.
void each_name(ByteView item, const std::function<void(const Named&)>& visit);

/// The bytes of a file by its extents; `items` are those of extent_data by offset, each with its own copy of
/// the data.
struct FileExtent {
  std::uint64_t offset = 0, length = 0;  ///< in the file
  enum class Kind { hole, plain, packed, within } kind = Kind::hole;
  std::uint8_t compression = 0;                    ///< 0 none, 1 zlib, 2 LZO, 3 zstd
  std::uint64_t stored_at = 0, stored_length = 0;  ///< logical
  std::uint64_t unpacked_length = 0, skip = 0;  ///< of the whole extent; bytes of it in front of the file's
  Bytes inline_data = {};
};
SourcePtr make_file(const std::shared_ptr<const Volume>& volume, std::vector<FileExtent> extents,
                    std::uint64_t size);

}  // namespace operculum::btrfs

#pragma once

#include <functional>
#include <tuple>
#include <unordered_set>

#include "base/structure.h"
#include "base/time.h"
#include "container/container.h"
#include "io/extent_source.h"

namespace operculum::reiser {

// ReiserFS 3, formats 3.5 and 3.6, after F. Buchholz, "The structure of the Reiser file system" (2006), and
// the structures that the Linux kernel publishes (fs/reiserfs/reiserfs.h).
//
// Everything is in one B+tree of items. An item's key is the object that it belongs to (the id of its folder,
// and its own), an offset, and a kind: stat data, folder entries, pointers to blocks (indirect), or bytes
// (direct). A leaf has the heads of its items in front and their bodies from its end backwards.

/// An object of the file system.
struct Id {
  std::uint32_t folder = 0, object = 0;
  bool operator<(const Id& other) const {
    return std::tie(folder, object) < std::tie(other.folder, other.object);
  }
};
constexpr Id kRoot = {1, 2};

/// struct reiserfs_super_block.
struct Superblock {
  std::uint32_t block_count = 0, free_blocks = 0, root_block = 0;
  std::uint16_t blocksize = 0, umount_state = 0;
  std::array<Byte, 10> magic = {};
  std::uint16_t tree_height = 0, version = 0;
  std::array<Byte, 16> uuid = {}, label = {};
  static constexpr auto layout = little_endian(
      field("s_block_count", &Superblock::block_count), field("s_free_blocks", &Superblock::free_blocks),
      field("s_root_block", &Superblock::root_block), from_byte<44>(),
      field("s_blocksize", &Superblock::blocksize), from_byte<50>(),
      field("s_umount_state", &Superblock::umount_state), field("s_magic", &Superblock::magic),
      from_byte<68>(), field("s_tree_height", &Superblock::tree_height), from_byte<72>(),
      field("s_version", &Superblock::version), from_byte<84>(), field("s_uuid", &Superblock::uuid),
      field("s_label", &Superblock::label));
};

/// What an item holds.
enum class ItemKind { stat, indirect, direct, folder, other };

/// An item of an object.
struct Item {
  ItemKind kind = ItemKind::other;
  std::uint64_t offset = 0;  ///< what it is the first byte or entry of, from 1 on
  std::size_t entries = 0;   ///< of a folder
  ByteView body;             ///< borrowed, during the call
  std::uint64_t at = 0;      ///< of the body in the image
};

/// What the system knows of an object.
struct Stat {
  std::uint16_t mode = 0;
  std::uint32_t links = 0, uid = 0, gid = 0, device = 0;
  std::uint64_t size = 0, blocks = 0;  ///< blocks: of 512 bytes
  Timestamp accessed, modified, changed, created;
};

/// A name in a folder, and the object that it stands for.
struct FolderItem {
  std::string name;
  Id id;
};

/// Throws Malformed unless the bytes are a superblock that makes sense.
Superblock read_superblock(ByteView raw, std::uint64_t at);

/// Where a superblock may lie: now, and before format 3.5.
constexpr std::uint64_t kSuperPlaces[] = {65536, 8192};
constexpr std::size_t kSuperSize = size_on_disk<Superblock>;

/// The structures of a ReiserFS file system, read as they are wanted.
class Volume {
 public:
  explicit Volume(SourcePtr image);

  const Superblock& super() const { return super_; }
  const SourcePtr& image() const { return image_; }

  Stat stat(Id id) const;
  SourcePtr data(Id id, std::uint64_t size) const;
  void list_folder(Id id, const std::function<void(FolderItem&&)>& take) const;

 private:
  using ItemSink = std::function<bool(const Item&)>;  ///< false: no more is wanted
  struct Descent {
    Id id;
    const ItemSink& take;
    std::unordered_set<std::uint64_t> seen;
  };

  void items_of(Id id, const ItemSink& take) const;
  bool in_block(std::uint64_t number, unsigned level, Descent& descent) const;
  bool in_leaf(ByteView block, std::uint64_t at, Descent& descent) const;

  SourcePtr image_, meta_;
  Superblock super_;
};

}  // namespace operculum::reiser

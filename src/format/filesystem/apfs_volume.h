#pragma once

#include <mutex>

#include "cipher/disk_cipher.h"
#include "container/container.h"
#include "format/filesystem/apfs_tree.h"

namespace operculum::apfs {

/// What an inode and its extended fields say.
struct Inode {
  InodeRecord record;
  StreamSize stream;
  std::uint64_t holes = 0;   ///< bytes of the stream that are allocated but nowhere
  std::uint32_t device = 0;  ///< of a special file
};

/// A name in a folder.
struct Name {
  std::string_view text;
  std::uint64_t file_id = 0;
  unsigned type = 0;  ///< of the thing: the upper bits of its mode, as a folder keeps them
};

/// An extended attribute: its value, or the stream that holds it.
struct Attribute {
  std::string name;
  Bytes value;
  std::optional<std::uint64_t> stream_id;
  std::uint64_t size = 0;
};

/// The state of a volume at a transaction, and its name.
struct Snapshot {
  std::uint64_t xid = 0, made = 0, super_at = 0;
  std::string name;
};

/// Gives the key of an encrypted volume, or throws NeedsKey.
using Unlock = std::function<std::shared_ptr<const DiskCipher>()>;

/// A volume at one moment.
class Volume : public std::enable_shared_from_this<Volume> {
 public:
  /// `objects` is the volume's object map, `xid` the transaction up to which it is read; `unlock` is there
  /// for encrypted volumes, and called when something of the volume's tree is wanted.
  Volume(const Blocks& blocks, const VolumeSuper& super, ObjectMap objects, std::uint64_t xid, Unlock unlock);

  const VolumeSuper& super() const { return super_; }
  const ObjectMap& objects() const { return objects_; }

  Inode inode(std::uint64_t id) const;
  /// The names in a folder, in the tree's order.
  void names(std::uint64_t folder, const std::function<void(const Name&)>& take) const;
  void attributes(std::uint64_t id, const std::function<void(Attribute&&)>& take) const;
  SourcePtr data(std::uint64_t stream_id, std::uint64_t size) const;
  SourcePtr data(const Attribute& attribute) const;
  void snapshots(const std::function<void(const Snapshot&)>& take) const;

 private:
  class FileSource;
  const Tree& tree() const;
  const Tree* extents() const;
  Bytes read_node(std::uint64_t id) const;
  void open() const;

  Blocks blocks_;
  VolumeSuper super_;
  ObjectMap objects_;
  std::uint64_t xid_;
  Unlock unlock_;
  mutable std::once_flag opened_;
  mutable std::shared_ptr<const DiskCipher> cipher_;
  mutable std::optional<Tree> tree_, extents_;
};
using VolumePtr = std::shared_ptr<const Volume>;

/// A container: the newest of its superblocks, and what that leads to.
class Container {
 public:
  using Report = std::function<void(Finding::Level, std::string)>;
  /// `report` is told what is wrong but can be read nevertheless. Throws Malformed and Unsupported.
  Container(SourcePtr image, const Report& report);

  const Blocks& blocks() const { return blocks_; }
  const ContainerSuper& super() const { return super_; }
  std::uint64_t xid() const { return xid_; }
  std::optional<std::uint64_t> free_blocks() const;

  std::size_t count() const { return volumes_.size(); }
  const VolumeSuper& volume(std::size_t index) const { return volumes_[index].super; }
  /// A volume as it is, or at a snapshot.
  std::shared_ptr<const Volume> open(std::size_t index, const Snapshot* snapshot, Unlock unlock) const;

 private:
  struct Known {
    VolumeSuper super;
    ObjectMap objects;
  };
  void find_newest(const Report& report);

  Blocks blocks_;
  ContainerSuper super_;
  Bytes super_block_;
  std::uint64_t xid_ = 0;
  std::vector<Known> volumes_;
};

/// Throws Malformed unless these bytes, from the front of a container, are a superblock that makes sense.
ContainerSuper read_super(ByteView raw);

}  // namespace operculum::apfs

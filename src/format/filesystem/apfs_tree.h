#pragma once

#include <functional>
#include <optional>

#include "format/filesystem/apfs_records.h"
#include "io/block_cache.h"
#include "io/source.h"

namespace operculum::apfs {

/// The checksum of an object: Fletcher's with 64 bits, over all words but the first two (reference,
/// "Objects").
std::uint64_t object_sum(ByteView object);

/// The blocks of a container.
class Blocks {
 public:
  Blocks(SourcePtr image, std::uint32_t size) : image_(std::move(image)), size_(size) {}

  const SourcePtr& image() const { return image_; }
  std::uint32_t size() const { return size_; }  ///< of a block, in bytes
  std::uint64_t count() const { return image_->size() / size_; }

  Bytes raw(std::uint64_t block, const char* what) const;
  /// An object; throws Malformed unless it fits its checksum.
  Bytes object(std::uint64_t block, const char* what) const;
  /// The same for bytes that were read.
  static void check(ByteView object, std::uint64_t block, const char* what);

 private:
  SourcePtr image_;
  std::uint32_t size_;
};

/// A record of a leaf; lives as long as the call that shows it.
struct Record {
  ByteView key, value;
};

/// A B-tree, of which nodes are read when they are needed. Safe to share between threads.
class Tree {
 public:
  /// The node of that identifier, as its index calls it. Throws Malformed.
  using ReadNode = std::function<Bytes(std::uint64_t id)>;
  /// `most` nodes are visited by one search at most.
  Tree(std::uint64_t root, ReadNode read, std::uint64_t most);

  /// Shows records in their order, from the first on that is not `before` what is wanted, until `take` says
  /// false.
  void from(const std::function<bool(ByteView key)>& before,
            const std::function<bool(const Record&)>& take) const;
  /// Shows the last record that `fits` holds for, which holds for all before it; false when there is none.
  bool last(const std::function<bool(ByteView key)>& fits,
            const std::function<void(const Record&)>& take) const;

 private:
  struct Node;
  Node node(std::uint64_t id, std::optional<unsigned> level) const;
  static std::uint64_t child(const Node& node, std::size_t index);

  std::uint64_t root_;
  ReadNode read_;
  std::uint64_t most_;
  std::shared_ptr<BlockCache> nodes_ = std::make_shared<BlockCache>(16 << 20);
};

/// Leads from identifiers of virtual objects to blocks. Copies share what was read.
class ObjectMap {
 public:
  /// Throws Malformed unless an object map lies at that block.
  ObjectMap(const Blocks& blocks, std::uint64_t at);
  /// The newest of an object up to a transaction; nothing when there is none. Throws Malformed.
  std::optional<MappedObject> find(std::uint64_t oid, std::uint64_t xid) const;

 private:
  Tree tree_;
};

}  // namespace operculum::apfs

#pragma once

#include <functional>
#include <optional>

#include "base/structure_fields.h"
#include "container/container.h"
#include "format/filesystem/hfs_records.h"
#include "io/extent_source.h"

namespace operculum::hfs {

/// A fork's size and its first eight extents, in allocation blocks (TN1150, "Fork Data Structure").
struct Fork {
  std::uint64_t size = 0;
  std::vector<std::pair<std::uint64_t, std::uint64_t>> extents;  ///< first block, count
  std::uint64_t blocks = 0;
};
Fork read_fork(const BigFields& f, std::size_t at);
void read_extents(const BigFields& f, std::size_t at, Fork& out);

/// What the volume header tells; sizes are bytes.
struct Header {
  bool extended = false;  ///< HFSX
  std::uint16_t version = 0;
  bool clean = true, journaled = false;
  std::uint32_t files = 0, folders = 0, block = 0, blocks = 0, free_blocks = 0;
  Timestamp made, modified;
  Fork extents, catalog, attributes;
};
/// Throws Malformed unless the 512 bytes are a volume header.
Header read_header(ByteView raw);

/// A record of a B-tree's leaf.
struct LeafRecord {
  BigFields key;  ///< behind its length
  BigFields data;
  std::uint64_t place = 0;  ///< finds it again: node and position in it
};

/// A B-tree (TN1150, "B-Trees"): records in the order of their keys.
class Tree {
 public:
  Tree(SourcePtr file, std::string_view what);

  /// Whether a key comes before what is looked for.
  using Before = std::function<bool(const BigFields& key)>;
  /// Calls `take` for the records from the first on whose key is not before what is looked for, until it
  /// returns false. Throws Malformed on loops and damage.
  void from(const Before& before, const std::function<bool(const LeafRecord&)>& take) const;
  /// The record at a place that was told before.
  void at(std::uint64_t place, const std::function<void(const LeafRecord&)>& take) const;

 private:
  Bytes node(std::uint32_t number) const;
  LeafRecord record(ByteView node, unsigned index) const;

  SourcePtr file_;
  std::string_view what_;
  std::uint32_t root_ = 0, nodes_ = 0;
  std::uint64_t node_size_ = 0;
};

/// Seconds since 1904.
Timestamp time_of(std::uint32_t seconds);

/// A volume's special files, and the extents of any fork.
class Volume {
 public:
  explicit Volume(SourcePtr image, const std::function<void(Finding::Level, std::string)>& report);

  enum class ForkKind : std::uint8_t { data = 0, resource = 0xFF };
  SourcePtr fork(const Fork& fork, std::uint32_t file, ForkKind kind) const;
  const Header& header() const { return header_; }
  const Tree& catalog() const { return *catalog_; }
  const Tree* attributes() const { return attributes_ ? &*attributes_ : nullptr; }
  const SourcePtr& image() const { return image_; }

 private:
  SourcePtr image_, meta_;
  Header header_;
  std::optional<Tree> overflow_, catalog_, attributes_;
};

}  // namespace operculum::hfs

#pragma once

#include <optional>

#include "io/extent_source.h"

namespace operculum::fat {

/// Where the clusters of a volume lie; all in bytes.
struct Geometry {
  std::uint64_t table_at = 0;  ///< the file allocation table
  std::uint64_t table_size = 0;
  unsigned bits = 12;         ///< of one of its numbers: 12, 16 or 32
  std::uint64_t heap_at = 0;  ///< cluster 2
  std::uint64_t cluster_size = 0;
  std::uint32_t clusters = 0;  ///< their numbers begin with 2
};

/// The file allocation table: which cluster follows which.
class Table {
 public:
  Table(SourcePtr volume, const Geometry& geometry);

  /// The clusters of a chain as extents, at most `limit` bytes. A chain that ends early gives fewer. Throws
  /// Malformed on loops and numbers out of range.
  std::vector<Extent> chain(std::uint32_t first, std::uint64_t limit) const;
  /// The same for clusters that lie one after another.
  std::vector<Extent> run(std::uint32_t first, std::uint64_t limit) const;
  std::uint32_t entry(std::uint32_t cluster) const;
  std::uint64_t free_clusters() const;  ///< counts; reads the whole table
  std::uint64_t place(std::uint32_t cluster) const;
  const Geometry& geometry() const { return geometry_; }

 private:
  bool is_cluster(std::uint32_t number) const { return number >= 2 && number - 2 < geometry_.clusters; }

  SourcePtr volume_;  // read in small pieces: cached
  Geometry geometry_;
};

}  // namespace operculum::fat

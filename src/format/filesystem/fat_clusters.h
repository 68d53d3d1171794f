#pragma once

#include <map>

#include "format/filesystem/fat_boot.h"
#include "io/patches.h"

namespace operculum::fat {

/// The allocation table while it is changed: which clusters are free, and chains made and let go.
class Clusters {
 public:
  Clusters(const SourcePtr& volume, const Boot& boot);

  std::vector<std::uint32_t> chain(std::uint32_t first) const;  ///< throws Malformed on loops
  void free_chain(std::uint32_t first);
  /// The chain of `have` made longer or shorter; it stays where it is as far as it goes. Throws Unsupported
  /// where the volume has no room.
  std::vector<std::uint32_t> resize(std::vector<std::uint32_t> have, std::uint64_t count);

  std::uint64_t place(std::uint32_t cluster) const { return table_.place(cluster); }
  std::uint64_t size() const { return boot_.geometry.cluster_size; }
  /// Puts what changed into all tables, and the number of free clusters where it is kept.
  void write(Patches& patches) const;

 private:
  std::uint32_t entry(std::uint32_t cluster) const;
  void set(std::uint32_t cluster, std::uint32_t value);
  std::vector<std::uint32_t> take(std::uint64_t count, std::uint32_t behind);
  std::vector<std::uint32_t> run_from(std::uint32_t first, std::uint64_t count) const;
  std::vector<std::uint32_t> first_run(std::uint64_t count);
  std::uint32_t end() const { return boot_.geometry.clusters + 2; }
  void put(Patches& patches, std::uint64_t table_at, std::uint32_t cluster, std::uint32_t value) const;

  const Boot& boot_;
  Table table_;
  std::map<std::uint32_t, std::uint32_t> changed_;
  std::int64_t freed_ = 0;
  std::uint32_t free_from_ = 2;  // no cluster in front of it is free
};

}  // namespace operculum::fat

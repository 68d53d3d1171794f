#pragma once

#include "format/filesystem/fat_boot.h"
#include "format/filesystem/new_tree.h"
#include "io/spool.h"

namespace operculum::fat {

/// A volume that is written again.
struct OldVolume {
  SourcePtr source;
  Boot boot;
  std::string encoding;  ///< of short names
};

/// The entries of a volume, and by which cluster each begins.
struct OldEntries {
  std::span<const Entry> all;
  std::function<std::uint32_t(std::size_t)> cluster;
};

/// The volume with what `root` has: all stays where it lies but what changes. Contents take the clusters that
/// they had, and free ones when they are larger; what is removed becomes free. Throws Unsupported where there
/// is no room, and for what a FAT volume cannot have.
Assembly rewrite(const OldVolume& volume, const OldEntries& old, const std::set<std::size_t>& removed,
                 TreeNode& root, SpoolBudget& budget);

}  // namespace operculum::fat

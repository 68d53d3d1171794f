#pragma once

#include "format/filesystem/iso_boot.h"
#include "format/filesystem/iso_tree.h"
#include "format/filesystem/new_tree.h"
#include "io/spool.h"

namespace operculum::iso {

/// A disc that is written again: its trees, the one that is shown first.
struct OldDisc {
  SourcePtr image;
  const RecordReader& reader;
  std::vector<BootImage> boot_images;
  DiscTree shown;
  std::optional<DiscTree> other;
};

/// The disc with what `root` has. Everything stays at its place: a content that fits where it was is put
/// there, all others and folders that grow go behind the end, in both trees. `entries` are those of the disc.
/// Throws Unsupported, Malformed.
Assembly rewrite(OldDisc& disc, std::span<const Entry> entries, TreeNode& root, SpoolBudget& budget);

}  // namespace operculum::iso

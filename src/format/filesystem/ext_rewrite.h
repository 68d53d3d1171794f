#pragma once

#include "format/filesystem/ext_volume.h"
#include "io/assembly.h"
#include "io/spool.h"

namespace operculum::ext {

/// An inode's file is to have this content.
struct NewContent {
  std::uint32_t inode = 0;
  std::string path;
  ContentPtr content;
};

/// The file system with other contents of files: in the blocks that they have, and in free ones where those
/// do not suffice; blocks that are left over become free. Bitmaps, counts and checksums follow. Throws
/// Unsupported where there is no room, and for files and file systems that are kept in another way.
Assembly rewrite(const Volume& volume, const std::vector<NewContent>& contents, SpoolBudget& budget);

}  // namespace operculum::ext

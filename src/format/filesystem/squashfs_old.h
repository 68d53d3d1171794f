#pragma once

#include "container/format.h"
#include "format/filesystem/squashfs_old_volume.h"

namespace operculum {

/// The tree of a SquashFS 2.x or 3.x image. Throws Malformed and Unsupported.
ContainerPtr open_old_squashfs(const SourcePtr& image, const squash_old::Front& front, OpenContext& context);

}  // namespace operculum

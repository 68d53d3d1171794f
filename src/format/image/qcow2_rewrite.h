#pragma once

#include "io/assembly.h"

namespace operculum {

/// A QCOW2 image with another content of its disk, which keeps its size: clusters that the image has for
/// itself are written where they lie; for what it has not, shares with a snapshot, or keeps packed, new ones
/// come behind the end, and tables and reference counts follow. `before` is the disk as it is. Throws
/// Unsupported for images with features that are not written, Malformed.
Assembly rewrite_qcow2(const SourcePtr& file, const Source& before, const SourcePtr& after);

}  // namespace operculum

#pragma once

#include "task/progress.h"
#include "task/rebuild_layers.h"

namespace operculum {

/// Opens a planned layer with our own readers and compares it with the one that it was made of: the entries
/// that there should be, what stayed byte for byte, what changed with its new content. Returns how many
/// entries' bytes were compared. Throws Malformed when anything differs, which would be a mistake of ours.
std::uint64_t check_plan(const RebuildLayer& layer, const PlannedLayer& plan, bool quick,
                         OpenContext& context, Progress& progress);

/// Compares what was written with what was planned; with `quick` only what is not the original's. Throws
/// Malformed.
void check_written(const Source& written, const Assembly& plan, const Source& original, bool quick,
                   unsigned jobs, Progress& progress);

}  // namespace operculum

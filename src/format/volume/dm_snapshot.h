#pragma once

#include "io/source.h"

namespace operculum {

/// A snapshot of `origin` as the Linux device mapper keeps it (drivers/md/dm-snap-persistent.c): in `store`
/// lie the chunks in which it differs, behind a list of where each belongs. Throws Malformed where the store
/// makes no sense.
SourcePtr make_dm_snapshot(const SourcePtr& origin, const SourcePtr& store);

}  // namespace operculum

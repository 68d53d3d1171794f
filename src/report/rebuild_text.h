#pragma once

#include "base/shown.h"
#include "task/rebuild.h"

namespace operculum {

/// What becomes of each entry, a line for each, with the notes beneath; then a line about the file.
Shown rebuild_text(const RebuildResult& result, const std::string& target, bool dry_run);

}  // namespace operculum

#pragma once

#include "base/error.h"
#include "task/progress.h"

namespace operculum {

/// What ended a run that could not write any more, told with how much more room is needed where that is
/// known.
Error with_room_needed(const CannotWrite& error, const Progress& progress);

}  // namespace operculum

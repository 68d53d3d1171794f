#pragma once

#include "sandbox/rights.h"

namespace operculum {

/// The version of the rules that the kernel's Landlock knows (Documentation/userspace-api/landlock.rst); 0
/// where it has none or was started without it.
int landlock_version();

/// From now on this thread, and those that it starts, reach only the files that `rights` names. Returns the
/// version that is enforced; 0 when nothing is: the kernel has no Landlock, or one that cannot allow what is
/// needed.
int restrict_files(const Rights& rights);

}  // namespace operculum

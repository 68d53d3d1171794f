#pragma once

#include "sandbox/rights.h"

namespace operculum {

/// This process and its children never get more rights than they have (no-new-privileges); it leaves no core
/// dump when it dies, for one would hold keys and contents; it may take three quarters of the machine's
/// memory beyond what it has, and at least a GiB.
void limit_process();

/// Of what root may do beside reaching all files, only what `rights` asks for stays (capabilities(7)).
void drop_capabilities(const Rights& rights);

}  // namespace operculum

#pragma once

#include "sandbox/rights.h"

namespace operculum {

/// Gives up everything but `rights`, for good: files (Landlock), system calls (seccomp), what root may do,
/// core dumps, memory without end. Called before the first byte of a stranger is read and before there are
/// threads.
Enforced give_up_all_but(const Rights& rights);

/// What the kernel here could enforce.
Enforced enforceable();

}  // namespace operculum

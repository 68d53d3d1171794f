#pragma once

#include "sandbox/rights.h"

namespace operculum {

/// From now on the kernel refuses (EPERM) every system call that is not on a short list: this process starts
/// no program and no process, opens no socket unless `rights` has the network, traces nobody and enters no
/// namespace. False when the kernel cannot filter system calls.
bool restrict_system_calls(const Rights& rights);

}  // namespace operculum

#pragma once

#include "base/error.h"

namespace operculum::cli {

/// What the program's exit says; documented in docs/output.md.
enum ExitCode : int {
  success = 0,
  some_failed = 1,  ///< some entries failed or faults were found
  usage = 2,
  cannot_open = 3,    ///< no such file, no container, damaged beyond listing, not built
  key_needed = 4,     ///< a password is missing or wrong
  limit_reached = 5,  ///< a guard stopped the work
  // 128 + the number of the signal that ended the work
};

inline ExitCode exit_code_of(ErrorKind kind) {
  switch (kind) {
    case ErrorKind::needs_key:
      return key_needed;
    case ErrorKind::limit_exceeded:
      return limit_reached;
    default:
      return cannot_open;
  }
}

}  // namespace operculum::cli

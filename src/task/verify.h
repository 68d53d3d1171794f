#pragma once

#include "task/progress.h"
#include "task/selection.h"
#include "task/walk.h"

namespace operculum {

/// Which entries are checked, and how deep.
struct VerifyRequest {
  Selection selection;
  bool deep = false;
  bool programs = false;  ///< with deep, also into programs that carry containers
  unsigned jobs = 0;      ///< threads; 0: one for each processor
};

/// Something that is not as it should be; `path` is empty for the container itself.
struct Fault {
  std::string path;
  std::string message;
  Finding::Level level = Finding::Level::fault;
  ErrorKind error = ErrorKind::malformed;
};

/// How many entries were decoded, compared and found wrong.
struct VerifyTotals {
  std::uint64_t entries = 0;  ///< files decoded to their end, and right as far as that can be told
  std::uint64_t bytes = 0;    ///< of these, unpacked
  std::uint64_t with_checksum =
      0;                     ///< of these, files with a checksum or an authentication code that was compared
  std::uint64_t failed = 0;  ///< files that could not be decoded, or differ from their checksum
  std::uint64_t faults = 0;  ///< these, and faults of containers
  std::uint64_t warnings = 0;
  std::uint64_t nested = 0;  ///< files that are containers by their names, and were not entered
  bool key_needed = false;
};

/// Decodes every wanted file, compares every checksum and size, and writes nothing. Faults arrive in stored
/// order.
VerifyTotals verify(const Place& place, const VerifyRequest& request, OpenContext& context,
                    Progress& progress, const std::function<void(const Fault&)>& sink);

}  // namespace operculum

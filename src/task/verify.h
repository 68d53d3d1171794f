#pragma once

#include "task/progress.h"
#include "task/selection.h"
#include "task/walk.h"

namespace operculum {

struct VerifyRequest {
  Selection selection;
  bool deep = false;
  unsigned jobs = 0;  ///< threads; 0: one for each processor
};

/// Something that is not as it should be; `path` is empty for the container itself.
struct Fault {
  std::string path;
  std::string message;
  Finding::Level level = Finding::Level::fault;
  ErrorKind error = ErrorKind::malformed;
};

struct VerifyTotals {
  std::uint64_t entries = 0;  ///< files decoded to their end
  std::uint64_t bytes = 0;    ///< unpacked
  std::uint64_t with_checksum =
      0;  ///< of these, files whose format or codec has a checksum that was compared
  std::uint64_t faults = 0, warnings = 0;
  bool key_needed = false;
};

/// Decodes every wanted file, compares every checksum and size, and writes nothing. Faults arrive in stored
/// order.
VerifyTotals verify(const Place& place, const VerifyRequest& request, OpenContext& context,
                    Progress& progress, const std::function<void(const Fault&)>& sink);

}  // namespace operculum

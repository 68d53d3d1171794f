#pragma once

#include "task/rebuild.h"

namespace operculum {

/// What the wishes of a request mean for the entries of one container.
struct WishedChanges {
  Changes changes;
  std::vector<Fate> fates;
  std::uint64_t kept = 0;  ///< entries that stay as they are
};

/// Works a request out; `inside` is a folder of the container that its paths count from. Files are opened to
/// see whether they differ. Throws Malformed where a path is not there, or is there already, or stands for
/// something else; IoError.
WishedChanges work_out(const RebuildRequest& request, Container& container, const std::string& inside);

}  // namespace operculum

#pragma once

#include "task/rebuild.h"

namespace operculum {

/// Which container becomes which other form, and where it goes.
struct ConvertRequest {
  std::string target;  ///< a locator
  std::string as;      ///< as in PackRequest; "raw" for the disk in a disk image
  PackChoice choice;
  std::string into;  ///< a file that is not there yet
  bool dry_run = false;
};

/// What a conversion would not keep, a sentence for each kind of thing: "the owners (12)".
using Losses = std::vector<std::string>;

/// Makes a file of another format of what a container holds. `losses` is called before anything is written,
/// when something cannot be kept; false ends it. Where the format inside stays the same, its bytes pass
/// through untouched and only the codecs around them change. Throws Error; nothing is left then.
RebuildResult convert(const ConvertRequest& request, OpenContext& context, Progress& progress,
                      const std::function<bool(const Losses&)>& losses);

}  // namespace operculum

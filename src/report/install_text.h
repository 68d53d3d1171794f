#pragma once

#include "base/shown.h"
#include "task/install_report.h"

namespace operculum {

/// A report as a person reads it on a terminal; `scripts` adds the text of scripts.
Shown install_text(const PackageReport& report, bool scripts);

/// Reports as one HTML page that needs nothing beside it.
std::string install_page(const std::vector<PackageReport>& reports, const std::string& target);

/// A line of what to remove: of folders it says that they must be empty, so that it cannot be piped into a
/// deletion.
std::string removal_line(const std::string& path);

}  // namespace operculum

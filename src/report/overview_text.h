#pragma once

#include <string>

#include "base/shown.h"
#include "collection/catalogue/overview.h"

namespace operculum {

/// The name of a format by its id; "no container" for an empty one.
std::string format_name(const std::string& id);

/// A collection as tables for a terminal.
Shown overview_text(const Overview& overview);

/// The same as RFC 4180: section, name, count, bytes, note.
Shown overview_csv(const Overview& overview);

/// The same as a page with figures.
std::string overview_page(const Overview& overview, const std::string& title);

}  // namespace operculum

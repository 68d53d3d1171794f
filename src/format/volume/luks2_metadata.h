#pragma once

#include "format/volume/luks.h"

namespace operculum::luks {

/// Fills in what LUKS2's JSON area says (specification, chapter 3). Throws Malformed, Unsupported.
void read_metadata(std::string_view json, Header& out);

}  // namespace operculum::luks

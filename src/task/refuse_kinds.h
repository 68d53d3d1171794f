#pragma once

#include "task/unpack.h"

namespace operculum {

/// Whether `kind`, as KindReader tells it, is one of those named.
bool is_kind_of(std::string_view kind, const std::vector<std::string>& kinds);

/// Looks at everything that is wanted, before anything is written. Throws GuardTripped naming what is of a
/// kind in request.refuse_kinds.
void refuse_kinds(const Place& place, const UnpackRequest& request, OpenContext& context, Progress& progress);

}  // namespace operculum

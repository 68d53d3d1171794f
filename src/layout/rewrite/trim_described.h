#pragma once

#include "container/trim.h"
#include "layout/rewrite/described_rewrite.h"

namespace operculum::layout {

/// The container without the filling that its description does not read, each thing aligned as before: the
/// numbers that tell where what lies behind is follow. Nothing where there is none, or too little to be told
/// with samples. Throws Unsupported where they cannot be made to.
std::optional<Trimmed> trim_described(const DescribedFile& file, Look look);

}  // namespace operculum::layout

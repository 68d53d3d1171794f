#pragma once

#include <vector>

#include "study/subject.h"

namespace operculum::study {

/// Parts of the file that may hold an index when they are unpacked, or freed of a short key that repeats: at
/// places that a header tells, behind it, and at the end.
std::vector<SpacePtr> disguised_spaces(const Subject& subject);

}  // namespace operculum::study

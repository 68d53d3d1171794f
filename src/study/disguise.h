#pragma once

#include <vector>

#include "study/subject.h"

namespace operculum::study {

/// Parts of the file that may hold an index when they are unpacked, or freed of a short key that repeats: at
/// places that a header tells, behind it, and at the end. Of an index in a file of its own, parts of that
/// one.
std::vector<SpacePtr> disguised_spaces(const Subject& subject);

/// The same space, which is freed of a key, from `begin` of its bytes on.
SpacePtr keyed_from(const Space& space, std::uint64_t begin);

}  // namespace operculum::study

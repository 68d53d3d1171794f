#pragma once

#include "study/hypothesis.h"

namespace operculum::study {

/// Looks for tables whose places do not ascend, such as those that are sorted by name or by hash: the number
/// of records has to be stated, and the table to end where the first of the data lies, or with the file.
std::vector<Hypothesis> search_unordered(const SpacePtr& space, const Subject& subject);

}  // namespace operculum::study

#pragma once

#include <vector>

#include "study/hypothesis.h"

namespace operculum::study {

/// Explanations of a space as a table of records of one size, the likeliest first.
std::vector<Hypothesis> search_tables(const SpacePtr& space, const Subject& subject);

}  // namespace operculum::study

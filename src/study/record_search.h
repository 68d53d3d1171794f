#pragma once

#include <vector>

#include "study/hypothesis.h"

namespace operculum::study {

/// Explanations of a space as records with a name of varying length in each, the likeliest first.
std::vector<Hypothesis> search_records(const SpacePtr& space, const Subject& subject);

}  // namespace operculum::study

#pragma once

#include <vector>

#include "study/hypothesis.h"

namespace operculum::study {

/// Explanations of a file without a table: each entry's header lies in front of its data, and its size leads
/// to the next one. The likeliest first.
std::vector<Hypothesis> search_chains(const SpacePtr& space, const Subject& subject);

}  // namespace operculum::study

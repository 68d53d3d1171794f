#pragma once

#include "study/hypothesis.h"

namespace operculum::study {

/// Looks for an index that is written as text at the begin of the file: lines of as many words each, one of
/// them a name, others numbers in decimal or hexadecimal digits. The lines in front of it are the header.
std::vector<Hypothesis> search_digits(const SpacePtr& space, const Subject& subject);

}  // namespace operculum::study

#pragma once

#include "study/hypothesis.h"

namespace operculum::study {

/// A description in the layout language that reads the file as the hypothesis has it, with the evidence as
/// comments. `same` tells which of the first bytes are the same in all files that were studied.
std::string draft(const Hypothesis& found, const Subject& subject, std::size_t same);

}  // namespace operculum::study

#pragma once

#include "study/hypothesis.h"

namespace operculum::study {

/// Looks at what lies between entries, where it is not explained by sizes: filling speaks for them, anything
/// else against.
void explain_gaps(Hypothesis& found, const Subject& subject);

/// The same records, each entry up to where the next one begins, where something is left out between them
/// all: sizes may count a part of an entry, without a header of its own. Nothing where they leave filling
/// alone.
std::optional<Hypothesis> without_sizes(const Hypothesis& found, const Subject& subject);

}  // namespace operculum::study

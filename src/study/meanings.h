#pragma once

#include "container/format.h"
#include "study/hypothesis.h"

namespace operculum::study {

/// Looks at what is left of the records when data and names are found: numbers that are times, checksums and
/// digests of the entries' bytes, as they lie there or unpacked. Adds these columns. `draft` is the
/// description of what was found so far, by which entries are unpacked.
void explain_rest(Hypothesis& found, const std::string& draft, const Subject& subject, OpenContext& context);

}  // namespace operculum::study

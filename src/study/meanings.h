#pragma once

#include "container/format.h"
#include "study/hypothesis.h"

namespace operculum::study {

/// Whether a number could be seconds since 1970, of a time that files have: of the years 1988 to 2039.
constexpr bool could_be_time(std::uint64_t number) {
  return number >= 567993600 && number < 2208988800;
}

/// Looks at what is left of the records when data and names are found: numbers that are times, checksums and
/// digests of the entries' bytes, as they lie there or unpacked. Adds these columns. `draft` is the
/// description of what was found so far, by which entries are unpacked.
void explain_rest(Hypothesis& found, const std::string& draft, const Subject& subject, OpenContext& context);

}  // namespace operculum::study

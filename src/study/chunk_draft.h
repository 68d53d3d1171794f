#pragma once

#include "study/hypothesis.h"

namespace operculum::study {

/// A description of chunks within chunks: as draft() does, of an explanation that has some.
std::string draft_chunks(const Hypothesis& found, const Subject& subject, std::size_t same);

}  // namespace operculum::study

#pragma once

#include "study/hypothesis.h"

namespace operculum::study {

/// Looks for records whose numbers take as many bytes as they need, seven bits in each (LEB128 as DWARF 5,
/// 7.6 describes it, or with the highest bits first, as in MIDI files): a name whose length is such a number,
/// up to three numbers in front of it and behind it, perhaps some fixed bytes. Records of a table, or headers
/// with their data behind.
std::vector<Hypothesis> search_varints(const SpacePtr& space, const Subject& subject);

}  // namespace operculum::study

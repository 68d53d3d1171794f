#pragma once

#include "study/hypothesis.h"

namespace operculum::study {

constexpr double kMostKeyBits = 24;  ///< the most that a key found speaks for an explanation

/// Finds out whether entries' data lies under a key: bytes that repeat, from each entry's front or through
/// the file, or a byte that grows by the same number from place to place. What comes out must be recognised.
void find_data_key(Hypothesis& found, const Subject& subject);

}  // namespace operculum::study

#pragma once

#include "study/hypothesis.h"

namespace operculum::study {

/// At how many ends of the records, 0 to 2, one more would fit as well: its data would lie right in front of
/// the first one's or behind the last one's. Then they are a part of a larger table, and the numbers that
/// seem to tell where they begin or how many they are do so by chance.
unsigned open_ends(const Hypothesis& found);

/// Whether each record looks like several smaller ones: its names lie at even distances wherever one has
/// room.
bool holds_several(const Hypothesis& found);

}  // namespace operculum::study

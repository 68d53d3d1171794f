#pragma once

#include "study/hypothesis.h"

namespace operculum::study {

/// Looks for a column that tells which record an entry lies in, where records have names of their own: those
/// that it names have no data, and others lie in them. Numbers count records from 0 or from 1 on.
void find_parents(Hypothesis& found);

}  // namespace operculum::study

#pragma once

#include "study/hypothesis.h"

namespace operculum::study {

constexpr double kMostPackingBits = 72;  ///< the most that a codec found speaks for an explanation

/// Finds out how entries' data is packed: tries every codec of the layout language on a few of them, and
/// compares what comes out with a column that could be their unpacked size. Adds that column, and notes what
/// tells packed entries from others.
void find_packing(Hypothesis& found, const Subject& subject);

/// Where a row's data lies in the file.
struct DataRun {
  std::uint64_t at = 0, size = 0;
};
std::vector<DataRun> data_runs(const Hypothesis& found);

}  // namespace operculum::study

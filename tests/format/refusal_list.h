#pragma once

#include <string>
#include <vector>

#include "format/damaged_sample.h"

namespace operculum::test {

/// A line of tests/fixtures/refusals.txt: what must be told of a sample where bytes were put into it.
struct RefusalRow {
  std::string sample;
  Damage changes;
  std::string sentence;
};
std::vector<RefusalRow> refusal_rows();

/// As in the list: place and bytes of each, in hexadecimal, with tabs.
std::string written(const Damage& changes);

}  // namespace operculum::test

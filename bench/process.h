#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace operculum::bench {

/// What running a program cost.
struct Cost {
  double seconds = 0;
  std::uint64_t peak_memory = 0;  ///< bytes resident at most
  std::uint64_t bytes_read = 0;   ///< through read calls, program loading included
  int exit_code = -1;
};

/// Runs a program with its output thrown away and waits for it. A small process stands between, for a
/// program's peak memory begins with that of the process that it was started from.
Cost run(const std::vector<std::string>& words);

/// What that small process does: `words` begin with kMeasureWord. Returns its exit code.
inline constexpr const char* kMeasureWord = "--measure-one";
int measure_one(char** words);

}  // namespace operculum::bench

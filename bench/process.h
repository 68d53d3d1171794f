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

/// Runs a program with its standard output thrown away and waits for it.
Cost run(const std::vector<std::string>& words);

}  // namespace operculum::bench

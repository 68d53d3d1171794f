#pragma once

#include <span>
#include <string>
#include <vector>

#include "container/container.h"

namespace operculum {

/// Findings that say the same of different places.
struct FoldedFinding {
  Finding::Level level;
  std::string text;  ///< of the first, without its place when there are several
  std::uint64_t count = 1;
  std::vector<std::string> places;  ///< the first three; empty for a single one
};

/// Puts those together that differ in their place, which stands in front of a colon, and in numbers. In the
/// order in which each was met first.
std::vector<FoldedFinding> fold(std::span<const Finding> findings);

/// "5,097 times: crc32 differs (crab.png, gull.png, tern.png and 5,094 more)".
std::string to_text(const FoldedFinding& finding);

}  // namespace operculum

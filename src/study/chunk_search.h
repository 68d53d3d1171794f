#pragma once

#include <string>
#include <vector>

#include "study/number_form.h"
#include "study/subject.h"

namespace operculum::study {

struct Hypothesis;

/// How tagged chunks are built that lie within chunks.
struct Chunks {
  NumberForm size;                  ///< of a chunk's data; four bytes
  bool size_first = false;          ///< it stands in front of the tag
  std::uint64_t bias = 0;           ///< bytes of the header that it counts
  std::uint64_t align = 1;          ///< chunks begin at multiples of it in the file
  std::uint64_t begin = 0;          ///< of the first one, in the file
  std::vector<std::string> groups;  ///< tags of those whose data is nothing but chunks
  std::vector<std::string> kinds;   ///< tags of those whose data is a tag, and chunks behind it
};

/// Looks for chunks with a tag and a size that lie in each other and fill the file up to its end.
std::vector<Hypothesis> search_chunks(const SpacePtr& space, const Subject& subject);

}  // namespace operculum::study

#pragma once

#include <map>
#include <optional>

#include "codec/codec.h"
#include "layout/run/step.h"

namespace operculum::layout {

/// How some bytes are made, with nothing left to look up: parts of sources, joined, and what they go through.
/// Safe to use from any thread.
struct Recipe {
  SourcePtr source;                 ///< null when there are parts
  std::optional<std::uint64_t> at;  ///< of `source`: the offset that a recorder is told for it
  std::vector<std::shared_ptr<const Recipe>> parts;  ///< joined, in order
  std::string missing;  ///< a file that is not there: what to say when it is read
  std::vector<Step> steps;
};
using RecipePtr = std::shared_ptr<const Recipe>;

/// A stream of the bytes. `size` is what is expected, in bytes, where known: some codecs end by it. Throws
/// what the steps throw, and IoError naming the missing file.
StreamPtr open_recipe(const RecipePtr& recipe, std::optional<std::uint64_t> size);

/// Random access where nothing has to be decoded; else null.
SourcePtr plain_source(const Recipe& recipe);

/// "stored", "deflate", "xor+zlib", ...
std::string method_of(const Recipe& recipe);

}  // namespace operculum::layout

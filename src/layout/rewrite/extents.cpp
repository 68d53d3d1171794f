#include "layout/rewrite/extents.h"

namespace operculum::layout {

Extent extent_of(const Source& bytes, const Source& base) {
  auto first = trace(bytes, 0, base);
  if (!first) return {};
  for (std::uint64_t done = first->length; done < bytes.size();) {
    auto next = trace(bytes, done, base);
    if (!next || next->at != first->at + done) return {};
    done += next->length;
  }
  return {first->at, bytes.size(), true};
}

std::optional<std::uint64_t> begin_of(const Recipe& recipe, const Source& stored, const Source& base) {
  if (stored.size() == 0) return recipe.at;
  auto first = trace(stored, 0, base);
  return first ? std::optional(first->at) : std::nullopt;
}

SourcePtr stored_bytes(const Recipe& recipe) {
  Recipe front = recipe;
  front.steps.clear();
  return plain_source(front);
}

}  // namespace operculum::layout

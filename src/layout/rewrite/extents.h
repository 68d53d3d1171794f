#pragma once

#include "layout/run/recipe.h"

namespace operculum::layout {

/// A run of the container's own bytes.
struct Extent {
  std::uint64_t at = 0, length = 0;
  bool there = false;  ///< the bytes are such a run
};

/// Where bytes lie in `base`, when they are one run of it.
Extent extent_of(const Source& bytes, const Source& base);

/// Where bytes of a recipe, as they are stored, begin in `base`, be they none.
std::optional<std::uint64_t> begin_of(const Recipe& recipe, const Source& stored, const Source& base);

/// What the steps of a recipe begin with, joined where it lies in several places; null where some of it is
/// made by steps of its own, or is missing.
SourcePtr stored_bytes(const Recipe& recipe);
/// The same of a recipe that may not be there.
inline SourcePtr stored_bytes(const RecipePtr& recipe) {
  return recipe ? stored_bytes(*recipe) : nullptr;
}

}  // namespace operculum::layout

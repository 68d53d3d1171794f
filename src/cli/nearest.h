#pragma once

#include <span>
#include <string>
#include <string_view>

namespace operculum::cli {

/// The word of `known` that `word` may have been meant to be: a third of its letters off at most (Damerau's
/// distance: a letter wrong, missing, too many, or two swapped), or one that begins with it; empty when there
/// is none.
std::string nearest(std::string_view word, std::span<const std::string> known);

}  // namespace operculum::cli

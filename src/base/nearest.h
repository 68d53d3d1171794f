#pragma once

#include <span>
#include <string_view>

namespace operculum {

/// The word that `word` may have been meant to be: one or, from four letters on, two letters off at most
/// (Damerau's distance: a letter wrong, missing, too many, or two swapped), or one that begins with it; empty
/// when there is none.
std::string_view nearest(std::string_view word, std::span<const std::string_view> words);

}  // namespace operculum

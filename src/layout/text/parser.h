#pragma once

#include "layout/text/syntax.h"

namespace operculum::layout {

/// Parses a description. Problems are added to `problems`; each statement that cannot be understood is left
/// out, so that one mistake does not hide the next.
syntax::Layout parse(const Description& description, std::vector<Problem>& problems);

}  // namespace operculum::layout

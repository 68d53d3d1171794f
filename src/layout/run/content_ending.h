#pragma once

#include "layout/run/run.h"

namespace operculum::layout {

/// The usual name ending for what some bytes are, by their content: ".png", ".wav", ".zip", ".txt"; ".bin"
/// when nothing is known. Decodes the front of the bytes; what cannot be decoded is ".bin".
std::string content_ending(Run& run, const Value& bytes);

}  // namespace operculum::layout

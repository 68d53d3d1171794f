#pragma once

#include <string>

#include "io/source.h"

namespace operculum {

/// SHA-256 over all bytes of a source, as 64 lower-case digits.
std::string sha256_of(const Source& source);

}  // namespace operculum

#pragma once

#include <string>

#include "base/bytes.h"

namespace operculum::fuzz {

/// Puts right the checksums of headers in `bytes`, wherever they stand, as the formats of that target have
/// them. What has none is left as it is.
void set_checksums(const std::string& target, ByteSpan bytes);

}  // namespace operculum::fuzz

#pragma once

#include <string>

#include "base/bytes.h"

namespace operculum {

/// Bytes in hexadecimal, apart: "53 48 4f 41".
std::string hex_text(ByteView bytes);

}  // namespace operculum

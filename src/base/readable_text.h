#pragma once

#include <string>

#include "base/bytes.h"

namespace operculum {

/// Text in any usual encoding made fit for a terminal: UTF-8, UTF-16 with a byte order mark or plainly
/// recognisable, else Windows-1252. Tabs and line ends stay, other control characters are shown escaped.
std::string readable_text(ByteView bytes);

/// Whether the bytes are text rather than something else.
bool looks_like_text(ByteView head);

}  // namespace operculum

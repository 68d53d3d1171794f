#pragma once

#include "base/bytes.h"

namespace operculum::test {

/// `plain`, of at most 64 KiB, packed as [MS-XCA] 2.1 describes.
Bytes pack_xpress(ByteView plain);

}  // namespace operculum::test

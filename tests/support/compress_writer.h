#pragma once

#include "base/bytes.h"

namespace operculum::test {

/// `plain` as a .Z file with codes of up to `widest` bits (9 to 16) and the clear code in use, which is
/// written once when the table is full.
Bytes write_compress(ByteView plain, unsigned widest = 16);

}  // namespace operculum::test

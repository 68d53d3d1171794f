#pragma once

#include "base/bytes.h"

namespace operculum {

/// Decodes LZNT1, the compression of NTFS ([MS-XCA] 2.5): chunks of 4096 bytes, each packed or plain. What
/// the data does not fill stays as zeros. Throws Malformed.
void decode_lznt1(ByteView packed, ByteSpan out);

}  // namespace operculum

#pragma once

#include "io/stream.h"

namespace operculum {

/// Decrypts AES in Galois counter mode (NIST SP 800-38D) without further data. The key has 16, 24 or 32
/// bytes; `nonce` and `tag` 1 to 16. The tag is compared at the end: it throws Malformed where it does not
/// fit, which a wrong key and damage alike bring about. Throws NeedsKey when the key's length does not fit.
StreamPtr open_gcm(StreamPtr sealed, ByteView key, ByteView nonce, ByteView tag);

}  // namespace operculum

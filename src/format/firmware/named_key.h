#pragma once

#include "base/bytes.h"
#include "cipher/key_ring.h"

namespace operculum {

/// A key of a block cipher that a firmware file asks for.
struct WantedKey {
  std::string name;       ///< as the file calls it; may be empty
  std::string container;  ///< for messages and patterns
  std::size_t size = 0;   ///< in bytes
};

/// The key out of the ring: written as hexadecimal digits, or the bytes themselves. Throws NeedsKey.
Bytes find_block_key(const WantedKey& wanted, KeyRing& keys, const std::function<bool(ByteView)>& fits);

}  // namespace operculum

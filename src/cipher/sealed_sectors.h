#pragma once

#include <memory>
#include <string>

#include "base/bytes.h"

namespace operculum {

/// Decrypts sectors that are authenticated: each has a tag, which is kept elsewhere. Safe to share between
/// threads.
class SealedSectors {
 public:
  virtual ~SealedSectors() = default;
  /// Decrypts in place; false when the tag does not fit. `number` counts 512 bytes.
  virtual bool open(std::uint64_t number, ByteView tag, ByteSpan sector) const = 0;
  virtual std::size_t tag_size() const = 0;  ///< bytes, with a random initialisation vector behind it
};

/// As Linux dm-crypt seals sectors (Documentation/admin-guide/device-mapper/dm-crypt.rst): `cipher` such as
/// "aes-xts-plain64", "aes-xts-random", "chacha20-random", "aes-gcm-random"; `integrity` as LUKS2 names it:
/// "hmac(sha256)", "poly1305", "aead". The key is that of the cipher, and behind it that of the HMAC. Throws
/// Unsupported for what is not known, Malformed when the key's length does not fit.
std::shared_ptr<const SealedSectors> make_sealed_sectors(const std::string& cipher,
                                                         const std::string& integrity, ByteView key);

}  // namespace operculum

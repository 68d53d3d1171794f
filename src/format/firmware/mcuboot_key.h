#pragma once

#include <span>

#include "base/bytes.h"
#include "cipher/key_ring.h"

namespace operculum::mcuboot {

/// What a tag of an image holds.
struct Tagged {
  std::uint16_t tag = 0;
  std::uint64_t at = 0;
  Bytes value;
};

/// Tags of sealed keys (MCUboot documentation, "encrypted_images").
enum KeyTag : std::uint16_t {
  sealed_by_rsa = 0x30,
  wrapped_key = 0x31,
  sealed_on_p256 = 0x32,
  sealed_on_x25519 = 0x33,
};

/// The key of `size` bytes that an image is encrypted with, by what of the ring opens it: a key in which it
/// is wrapped (AES, RFC 3394), or the private key that it is sealed for (RSA-OAEP; ECIES on P-256 or X25519).
/// Throws NeedsKey, Malformed, and Unsupported when none is there that is known.
Bytes find_image_key(std::span<const Tagged> tags, std::size_t size, const std::string& container,
                     KeyRing& keys);

}  // namespace operculum::mcuboot

#pragma once

#include <string>

#include "base/bytes.h"

namespace operculum::test {

/// AES in counter mode from 0 on, by the library's own encryption.
Bytes count_sealed(ByteView key, Bytes plain);

/// A key in the wrapping of RFC 3394.
Bytes wrap_key(ByteView kek, ByteView key);

/// AES in Galois counter mode.
struct GcmSealed {
  Bytes data, tag;
};
GcmSealed gcm_sealed(ByteView key, ByteView nonce, Bytes plain);

/// A key that was sealed for a private key made for it.
struct SealedKey {
  std::string owner;  ///< the private key, PEM
  std::uint16_t tag = 0;
  Bytes value;
};
/// RSA-OAEP with SHA-256, as MCUboot has it.
SealedKey seal_for_rsa(ByteView key);
/// ECIES as MCUboot has it, on "P-256" or "X25519".
SealedKey seal_on_curve(ByteView key, const char* curve);

/// What an MCUboot image is made with.
struct McubootOptions {
  Bytes key = {}, kek = {};  ///< of 16 or 32 bytes; empty: not encrypted
  SealedKey sealed = {};     ///< instead of a wrapping, where it has a tag
  bool guarded = false;      ///< with a protected area of values
  std::size_t header_size = 32;
};
Bytes make_mcuboot(const Bytes& image, const McubootOptions& options = {});

}  // namespace operculum::test

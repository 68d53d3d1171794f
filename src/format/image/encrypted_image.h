#pragma once

#include <string>
#include <vector>

#include "cipher/key_ring.h"
#include "io/source.h"

namespace operculum::encrypted_image {

// Encrypted disk images of Apple's systems, version 2 of their head ("encrcdsa"): AES in CBC mode, where a
// block's initialisation vector is made of its number with HMAC-SHA-1. There is no published specification;
// the head is as commonly documented. A passphrase's derived key wraps the two keys with triple DES.

inline constexpr std::string_view kMark = "encrcdsa", kOldMark = "cdsaencr";

/// One way to the keys: a passphrase.
struct Wrapping {
  std::uint64_t rounds = 0;
  Bytes salt, vector, wrapped;
};

/// What the header of an encrypted image tells.
struct Head {
  std::string id;
  std::size_t key_size = 0;    ///< bytes
  std::size_t block_size = 0;  ///< bytes
  std::uint64_t data_size = 0, data_at = 0;
  std::vector<Wrapping> wrappings;
  std::size_t others = 0;  ///< ways that are no passphrase: certificates
};

/// Throws Malformed, Unsupported.
Head read_head(const Source& file);

/// `stored`, from `at` on, decrypted; the key is asked for when it is read. `size` in bytes.
SourcePtr decrypt(const Head& head, SourcePtr stored, std::uint64_t at, std::uint64_t size, KeyRing keys,
                  const std::string& name);

}  // namespace operculum::encrypted_image

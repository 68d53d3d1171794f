#pragma once

#include <optional>
#include <string>

#include "cipher/secret.h"

namespace operculum {

/// What a header may make us do for one password: the ways to a key are as many as it says.
class DerivationBudget {
 public:
  /// `rounds` of PBKDF2 and the like, or as many blocks of Argon2. Throws LimitExceeded when it is used up.
  void spend(std::uint64_t rounds);

 private:
  std::uint64_t spent_ = 0;
};

/// PBKDF2 (RFC 8018) with HMAC of the hash called `hash` ("sha256"). Throws Unsupported for a hash that is
/// not known, and LimitExceeded for more rounds than anybody waits for.
Secret derive_pbkdf2(ByteView password, const std::string& hash, ByteView salt, std::uint64_t rounds,
                     std::size_t size);

/// What Argon2 (RFC 9106) is told.
struct Argon2 {
  bool data_independent = false;  ///< Argon2i; else Argon2id
  std::uint32_t passes = 0;
  std::uint64_t memory = 0;  ///< KiB
  std::uint32_t lanes = 0;
};
/// Throws LimitExceeded where that needs more memory or time than there is.
Secret derive_argon2(ByteView password, const Argon2& settings, ByteView salt, std::size_t size);

/// HKDF (RFC 5869) with SHA-256, without a salt.
Secret derive_hkdf(ByteView secret, std::string_view info, std::size_t size);

/// HMAC (RFC 2104) with SHA-256.
Secret hmac_of(ByteView key, ByteView bytes);

/// Takes a key out of its wrapping with AES (RFC 3394, section 2.2.2). `kek` has 16 or 32 bytes; nothing when
/// it is the wrong one or the wrapping is damaged, which cannot be told apart.
std::optional<Secret> unwrap_key(ByteView kek, ByteView wrapped);

/// Takes what AES-CCM (NIST SP 800-38C) sealed without further data; `nonce` has 7 to 13 bytes, `tag` 4
/// to 16. Nothing when the key is the wrong one or something is damaged, which cannot be told apart.
std::optional<Secret> open_ccm(ByteView key, ByteView nonce, ByteView tag, ByteView sealed);

/// The digest of `bytes`. Throws Unsupported for a hash that is not known.
Secret hash_of(const std::string& hash, ByteView bytes);

/// Whether two secrets are the same, in a time that does not depend on where they differ.
bool same_secret(ByteView a, ByteView b);

}  // namespace operculum

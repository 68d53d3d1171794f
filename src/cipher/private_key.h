#pragma once

#include <memory>
#include <optional>

#include "cipher/secret.h"

namespace operculum {

/// A private key that things are sealed for: RSA, or one on an elliptic curve.
class PrivateKey {
 public:
  /// PEM or DER, in PKCS #8 (RFC 5958) or an older form, not protected by a password. Nothing when `text` is
  /// no such key.
  static std::optional<PrivateKey> read(ByteView text);

  /// What was sealed by RSAES-OAEP (RFC 8017, section 7.1) with SHA-256. Nothing when it was not sealed for
  /// this key, or is damaged.
  std::optional<Secret> open_oaep(ByteView sealed) const;

  /// The secret that this key shares with a public one on the same curve: X25519 (RFC 7748; 32 bytes), or
  /// ECDH on P-256 (SEC 1, section 3.3.1; a point that is not compressed). Nothing where it is not on it.
  std::optional<Secret> agree(ByteView public_key) const;

 private:
  struct Handle;
  explicit PrivateKey(std::shared_ptr<Handle> handle) : handle_(std::move(handle)) {}
  std::shared_ptr<Handle> handle_;
};

}  // namespace operculum

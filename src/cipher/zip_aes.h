#pragma once

#include <memory>
#include <string_view>

#include "io/stream.h"

namespace operculum {

/// The AES encryption of ZIP entries ("AE-1" and "AE-2", extra field 0x9901): PBKDF2-HMAC-SHA1 with 1000
/// rounds, AES in counter mode with a little-endian counter from 1, and the first 10 bytes of an HMAC-SHA1
/// over the stored bytes.
struct ZipAes {
  static constexpr std::size_t kVerifier = 2, kCode = 10;  // bytes

  int strength = 3;  ///< 1, 2, 3: keys of 128, 192, 256 bits
  std::size_t salt_size() const { return static_cast<std::size_t>(strength) * 4 + 4; }
  std::size_t key_size() const { return static_cast<std::size_t>(strength) * 8 + 8; }
  std::size_t overhead() const { return salt_size() + kVerifier + kCode; }

  /// The keys that a password gives with this salt.
  struct Keys {
    Bytes cipher, authentication, verifier;
  };
  Keys derive(std::string_view password, ByteView salt) const;

  /// Whether the password fits salt and verifier, as stored in front of the data. One wrong one in 65536
  /// fits.
  bool fits(std::string_view password, ByteView salt_and_verifier) const;

  /// Encrypts data that comes piece by piece.
  class Encryption {
   public:
    explicit Encryption(const Keys& keys);
    ~Encryption();
    Encryption(const Encryption&) = delete;
    Encryption& operator=(const Encryption&) = delete;
    void apply(ByteSpan bytes);  ///< in place
    Bytes code();                ///< the authentication code of all that was encrypted; once, at the end

   private:
    struct State;
    std::unique_ptr<State> state_;
  };
};

/// Decrypts `stored_size` bytes: salt, verifier, data, code. Throws Malformed at the end when the code
/// differs, which with a fitting verifier means that the data is damaged.
StreamPtr open_zip_aes(const ZipAes& aes, StreamPtr stored, std::uint64_t stored_size,
                       std::string_view password);

}  // namespace operculum

#pragma once

#include <string_view>

#include "io/stream.h"

namespace operculum {

/// The traditional ZIP cipher (APPNOTE 6.1): three 32-bit keys stepped by CRC-32 for every byte.
class ZipTraditional {
 public:
  static constexpr std::size_t kHeader = 12;  ///< bytes of encrypted header in front of the data (6.1.6)

  explicit ZipTraditional(std::string_view password);
  Byte decrypt(Byte stored);
  Byte encrypt(Byte plain);

  /// Whether the password fits the header: its last byte, decrypted, must be `check`. One wrong password in
  /// 256 fits.
  static bool fits(std::string_view password, ByteView header, Byte check);

 private:
  void step(Byte plain);
  Byte key_byte() const;
  std::uint32_t keys_[3] = {0x12345678, 0x23456789, 0x34567890};
};

/// Decrypts data whose first 12 bytes are the encrypted header, which is left out.
StreamPtr open_zip_traditional(StreamPtr stored, std::string_view password);

}  // namespace operculum

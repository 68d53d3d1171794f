#pragma once

#include <memory>
#include <string>

#include "cipher/secret.h"
#include "io/source.h"

namespace operculum {

/// Decrypts sectors of a disk, each by itself. Safe to share between threads.
class DiskCipher {
 public:
  virtual ~DiskCipher() = default;
  /// `bytes` are whole sectors of `sector_size`; `number` is what the first one's initialisation vector is
  /// made of, in units of 512 bytes.
  virtual void decrypt(std::uint64_t number, ByteSpan bytes) const = 0;
};

/// The cipher as Linux dm-crypt writes it (Documentation/admin-guide/device-mapper/dm-crypt):
/// "aes-xts-plain64", "aes-cbc-essiv:sha256", "aes-cbc-eboiv", "aes-cbc-elephant" (two keys, one behind the
/// other), "aes-cbc-hmac:512" (behind the key that of HMAC-SHA-1, 20 bytes; blocks of that size are counted).
/// "plain64:4096" counts sectors of that size instead of 512 bytes. Throws Unsupported for what is not known,
/// Malformed when the key's length does not fit.
std::shared_ptr<const DiskCipher> make_disk_cipher(const std::string& specification, ByteView key,
                                                   std::size_t sector_size);

/// A disk kept encrypted from `at` on in `stored`; `first` is the number of its first sector, in units of 512
/// bytes.
SourcePtr make_decrypted(SourcePtr stored, std::uint64_t at, std::uint64_t size,
                         std::shared_ptr<const DiskCipher> cipher, std::size_t sector_size,
                         std::uint64_t first);

}  // namespace operculum

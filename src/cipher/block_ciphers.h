#pragma once

#include <memory>
#include <string_view>

#include "io/stream.h"

namespace operculum {

/// A cipher on blocks of a few bytes.
class BlockCipher {
 public:
  virtual ~BlockCipher() = default;
  virtual std::size_t block() const = 0;  ///< bytes
  virtual void encrypt(Byte* block) const = 0;
  virtual void decrypt(Byte* block) const = 0;
};

/// How words lie in a block of TEA, XTEA and Blowfish.
enum class WordOrder { little, big };

// Throw NeedsKey when the key's length does not fit.
std::unique_ptr<BlockCipher> make_aes(ByteView key);  // FIPS 197: 16, 24 or 32 bytes
std::unique_ptr<BlockCipher> make_des(ByteView key);  // FIPS 46-3: 8 bytes; 16 or 24: triple
std::unique_ptr<BlockCipher> make_blowfish(ByteView key,
                                           WordOrder order);  // B. Schneier, 1993: 4 to 56 bytes
std::unique_ptr<BlockCipher> make_tea(ByteView key, WordOrder order,
                                      unsigned rounds);  // D. Wheeler, R. Needham, 1994
std::unique_ptr<BlockCipher> make_xtea(ByteView key, WordOrder order, unsigned rounds);  // the same, 1997

/// How blocks are linked (NIST SP 800-38A).
enum class BlockMode { ecb, cbc, ctr };

/// Decrypts. `iv` is the initialisation vector or the first counter; missing bytes are zeros. In ECB and CBC
/// a rest that fills no block is passed on as it is. The counter counts up from its last byte.
StreamPtr open_block_cipher(StreamPtr stored, std::unique_ptr<BlockCipher> cipher, BlockMode mode,
                            ByteView iv);

/// The other way.
StreamPtr seal_block_cipher(StreamPtr plain, std::unique_ptr<BlockCipher> cipher, BlockMode mode,
                            ByteView iv);

}  // namespace operculum

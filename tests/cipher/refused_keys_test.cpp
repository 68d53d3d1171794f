// Keys that do not fit, and what else ciphers do not take.
#include <gtest/gtest.h>
#include <openssl/evp.h>

#include "base/error.h"
#include "cipher/block_ciphers.h"
#include "cipher/gcm.h"
#include "cipher/keyed_cipher.h"
#include "support/refusal.h"

namespace operculum {
namespace {

StreamPtr nothing() {
  return make_source_stream(make_memory_source({}));
}

TEST(RefusedKeys, TellWhatACipherWants) {
  const std::string kAes = "a key of 5 bytes does not fit AES, which wants 16, 24 or 32";
  const Bytes five(5), whole(16), tag(16);
  EXPECT_REFUSAL(make_aes(five), NeedsKey, kAes);
  EXPECT_REFUSAL(open_gcm(nothing(), five, whole, tag), NeedsKey, kAes);
  EXPECT_REFUSAL(make_des(five), NeedsKey, "a key of 5 bytes does not fit DES");
  EXPECT_REFUSAL(make_blowfish(Bytes(3), WordOrder::big), NeedsKey, "a key of 3 bytes does not fit Blowfish");
  EXPECT_REFUSAL(make_tea(five, WordOrder::big, 32), NeedsKey, "a key of 5 bytes does not fit TEA");
  EXPECT_REFUSAL(make_xtea(five, WordOrder::big, 32), NeedsKey, "a key of 5 bytes does not fit");
  EXPECT_REFUSAL(KeyedCipher(EVP_aes_128_cbc(), five, false), Malformed,
                 "the cipher's key has 5 bytes, expected 16");
  // XTS does not encrypt with two equal halves (FIPS 140-2, implementation guidance A.9)
  EXPECT_REFUSAL(KeyedCipher(EVP_aes_128_xts(), Bytes(32), true), Malformed,
                 "the cipher does not take this key");
}

TEST(RefusedKeys, GcmWantsANonceAndATag) {
  const Bytes key(16), tag(16);
  EXPECT_REFUSAL(open_gcm(nothing(), key, Bytes(), tag), Malformed,
                 "AES-GCM with a nonce of 0 and a tag of 16 bytes");
  EXPECT_REFUSAL(open_gcm(nothing(), key, Bytes(12), Bytes()), Malformed,
                 "AES-GCM with a nonce of 12 and a tag of 0 bytes");
}

}  // namespace
}  // namespace operculum

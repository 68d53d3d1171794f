#include "cipher/key_derivation.h"

#include <gtest/gtest.h>

#include "base/error.h"
#include "base/text.h"
#include "cipher/disk_cipher.h"
#include "support/refusal.h"

namespace operculum {
namespace {

// RFC 6070, the second vector.
TEST(KeyDerivation, Pbkdf2GivesTheVectorOfItsRfc) {
  Secret key = derive_pbkdf2(as_bytes("password"), "sha1", as_bytes("salt"), 2, 20);
  EXPECT_EQ(to_hex(key.view()), "ea6c014dc72d6f8ccd1ed92ace1d41f0d8de8957");
}

TEST(KeyDerivation, WhatNobodyWaitsForIsRefused) {
  EXPECT_REFUSAL(derive_pbkdf2(as_bytes("a"), "sha256", as_bytes("salt"), UINT32_MAX, 32), LimitExceeded,
                 "deriving the key takes 4294967295 rounds, more than the 50000000 that are done");
  EXPECT_REFUSAL(
      derive_argon2(as_bytes("a"), {false, 4, std::uint64_t{8} << 20, 1}, as_bytes("saltsalt"), 32),
      LimitExceeded, "deriving the key takes 4 passes over 8192 MiB of memory, more than is done");
  EXPECT_REFUSAL(derive_argon2(as_bytes("a"), {false, UINT32_MAX, 1024, 1}, as_bytes("saltsalt"), 32),
                 LimitExceeded,
                 "deriving the key takes 4294967295 passes over 1 MiB of memory, more than is done");
  EXPECT_REFUSAL(derive_pbkdf2(as_bytes("a"), "sha256", as_bytes("salt"), 0, 32), Malformed,
                 "a key derived in 0 rounds is not possible");
  EXPECT_REFUSAL(derive_pbkdf2(as_bytes("a"), "no such hash", as_bytes("salt"), 1, 32), Unsupported,
                 "Unsupported: the hash \"no such hash\"");
}

TEST(KeyDerivation, AllWaysToAKeyTogetherHaveALimit) {
  DerivationBudget budget;
  for (int i = 0; i < 4; ++i) budget.spend(50'000'000);
  EXPECT_REFUSAL(budget.spend(1), LimitExceeded,
                 "its ways to the key together take more work than is done for one password");
  EXPECT_REFUSAL(budget.spend(UINT64_MAX), LimitExceeded, "its ways to the key together");
}

TEST(KeyDerivation, SecretsMoveAndAreNotCopied) {
  static_assert(!std::is_copy_constructible_v<Secret> && !std::is_copy_assignable_v<Secret>);
  Secret first(4);
  first.span()[0] = 7;
  Secret second = std::move(first);
  EXPECT_EQ(second.view()[0], 7);
  EXPECT_EQ(first.size(), 0u);  // NOLINT(bugprone-use-after-move): that it is empty is what is asked
}

/// IEEE 1619, vector 2 of annex B.
TEST(DiskCipher, AesXtsGivesTheVectorOfItsStandard) {
  Bytes key(32, 0x11), sector(512);
  std::fill(key.begin() + 16, key.end(), Byte{0x22});
  Bytes cipher = *from_hex("c454185e6a16936e39334038acef838bfb186fff7480adc4289382ecd6d394f0");
  std::copy(cipher.begin(), cipher.end(), sector.begin());
  make_disk_cipher("aes-xts-plain64", key, 512)->decrypt(0x3333333333, sector);
  EXPECT_EQ(to_hex(ByteView(sector).first(32)), std::string(64, '4'));
}

TEST(DiskCipher, NamesWhatIsNotThere) {
  Bytes key(32);
  EXPECT_REFUSAL(make_disk_cipher("serpent-xts-plain64", key, 512), Unsupported,
                 "Unsupported: the cipher serpent-xts-plain64 with keys of 256 bits");
  EXPECT_REFUSAL(make_disk_cipher("aes-xts-tide", key, 512), Unsupported,
                 "Unsupported: initialisation vectors of kind \"tide\"");
  EXPECT_REFUSAL(make_disk_cipher("aes-lrw-benbi", key, 512), Unsupported,
                 "Unsupported: the cipher aes-lrw-benbi with keys of 256 bits");
  EXPECT_REFUSAL(make_disk_cipher("aes-xts-plain64", Bytes(31), 512), Unsupported,
                 "Unsupported: the cipher aes-xts-plain64 with keys of 248 bits");
}

}  // namespace
}  // namespace operculum

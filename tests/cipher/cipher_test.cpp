#include <gtest/gtest.h>

#include "base/error.h"
#include "base/text.h"
#include "cipher/key_ring.h"
#include "cipher/zip_aes.h"
#include "cipher/zip_traditional.h"
#include "support/byte_writer.h"

namespace operculum {
namespace {

using test::to_bytes;

TEST(ZipTraditional, DecryptsWhatItEncrypts) {
  ZipTraditional in("limpet"), out("limpet");
  for (char c : std::string("tide pool"))
    EXPECT_EQ(out.decrypt(in.encrypt(static_cast<Byte>(c))), static_cast<Byte>(c));
}

TEST(ZipTraditional, TellsAWrongPasswordByTheLastHeaderByte) {
  ZipTraditional cipher("limpet");
  Bytes header;
  for (int i = 0; i < 12; ++i) header.push_back(cipher.encrypt(static_cast<Byte>(i == 11 ? 0x5a : i)));
  EXPECT_TRUE(ZipTraditional::fits("limpet", header, 0x5a));
  EXPECT_FALSE(ZipTraditional::fits("limpet", header, 0x5b));
}

TEST(ZipAes, DerivesKeysAsRfc2898Does) {
  // PBKDF2-HMAC-SHA1 of "password" with salt "saltsalt", 1000 rounds: the first bytes are the cipher key.
  ZipAes aes{1};
  ZipAes::Keys keys = aes.derive("password", as_bytes("saltsalt"));
  EXPECT_EQ(keys.cipher.size(), 16u);
  EXPECT_EQ(keys.authentication.size(), 16u);
  EXPECT_EQ(keys.verifier.size(), 2u);
  EXPECT_EQ(ZipAes{3}.derive("p", as_bytes("saltsaltsaltsalt")).cipher.size(), 32u);
}

TEST(ZipAes, CountsLittleEndianFromOne) {
  // With an all-zero key of 128 bits the first pad block is AES(01 00 ... 00), here as the openssl command
  // gives it.
  ZipAes::Keys keys{Bytes(16), Bytes(16), {}};
  EXPECT_EQ(to_hex(ZipAes::crypt(keys, Bytes(16))), "47711816e91d6ff059bbbf2bf58e0fd3");
}

TEST(KeyRing, PrefersKeysOfTheContainerAndSaysWhenThereIsNone) {
  KeyRing ring;
  EXPECT_THROW(ring.find("kiosk.zip", [](const std::string&) { return true; }), NeedsKey);
  ring.add({"other", "keys.toml"}, "gauge-*");
  EXPECT_THROW(ring.find("kiosk.zip", [](const std::string&) { return true; }), NeedsKey)
      << "that key is for another container";
  ring.add({"limpet", "keys.toml"}, "KIOSK*");
  EXPECT_EQ(ring.find("kiosk.zip", [](const std::string&) { return true; }).secret, "limpet");
}

TEST(KeyRing, PointsOutBlanksThatSpoilAPassword) {
  KeyRing ring;
  ring.add({"limpet ", "the password file"});
  try {
    ring.find("kiosk.zip", [](const std::string& secret) { return secret == "limpet"; });
    FAIL() << "accepted a wrong password";
  } catch (const NeedsKey& error) {
    EXPECT_STREQ(error.what(),
                 "wrong password (1 tried); the password from the password file ends with a blank, and "
                 "without it it is right: remove the blank");
  }
}

TEST(KeyRing, AsksAPersonThreeTimesAtMostAndRemembersTheAnswer) {
  KeyRing ring;
  int asked = 0;
  ring.set_prompt(
      [&](const std::string&) { return std::optional<std::string>(++asked == 2 ? "limpet" : "whelk"); });
  auto fits = [](const std::string& secret) { return secret == "limpet"; };
  EXPECT_EQ(ring.find("kiosk.zip", fits).secret, "limpet");
  EXPECT_EQ(ring.find("kiosk.zip", fits).secret, "limpet");
  EXPECT_EQ(asked, 2);
  EXPECT_THROW(ring.find("kiosk.zip", [](const std::string&) { return false; }), NeedsKey);
  EXPECT_EQ(asked, 5);
}

}  // namespace
}  // namespace operculum

#include <gtest/gtest.h>

#include "base/error.h"
#include "base/text.h"
#include "cipher/key_ring.h"
#include "cipher/zip_aes.h"
#include "cipher/zip_traditional.h"
#include "support/byte_writer.h"
#include "support/refusal.h"

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
  Bytes pad(16);
  ZipAes::Encryption(keys).apply(pad);
  EXPECT_EQ(to_hex(pad), "47711816e91d6ff059bbbf2bf58e0fd3");
}

TEST(ZipAes, DamageIsToldApartFromAWrongPassword) {
  const ZipAes aes{2};
  Bytes sealed = to_bytes("saltsaltsalt"), text = to_bytes("high water at noon");
  ZipAes::Keys keys = aes.derive("limpet", sealed);
  ZipAes::Encryption encryption(keys);
  encryption.apply(text);
  for (const Bytes& part : {keys.verifier, text, encryption.code()})
    sealed.insert(sealed.end(), part.begin(), part.end());
  auto opened = [&](const Bytes& bytes, std::string_view password) {
    StreamPtr stream =
        open_zip_aes(aes, make_source_stream(make_memory_source(bytes)), bytes.size(), password);
    return std::string(as_text(read_all(*stream, 100)));
  };
  EXPECT_EQ(opened(sealed, "limpet"), "high water at noon");
  Bytes damaged = sealed;
  damaged[20] ^= 1;
  EXPECT_REFUSAL(opened(damaged, "limpet"), Malformed,
                 "the password is right, but the authentication code differs; the data is damaged");
  EXPECT_REFUSAL(opened(Bytes(sealed.begin(), sealed.begin() + 20), "limpet"), Malformed,
                 "the entry is shorter than its encryption needs; it is damaged");
}

constexpr auto yes_if = [](bool fits) { return fits ? KeyRing::Fit::yes : KeyRing::Fit::no; };
KeyRing::Fit any(const std::string&) {
  return KeyRing::Fit::yes;
}
KeyRing::Fit none(const std::string&) {
  return KeyRing::Fit::no;
}
KeyRing::Fit limpet(const std::string& secret) {
  return yes_if(secret == "limpet");
}

TEST(KeyRing, PrefersKeysOfTheContainerAndSaysWhenThereIsNone) {
  KeyRing ring;
  EXPECT_REFUSAL(ring.find("kiosk.zip", any), NeedsKey,
                 "a password is needed; give it with --password-file, in OPERCULUM_PASSWORD or in keys.toml");
  ring.add({"other", "keys.toml"}, "gauge-*");
  EXPECT_REFUSAL(ring.find("kiosk.zip", any), NeedsKey,
                 "a password is needed; give it with --password-file, in OPERCULUM_PASSWORD or in keys.toml")
      << "that key is for another container";
  ring.add({"limpet", "keys.toml"}, "KIOSK*");
  EXPECT_EQ(ring.find("kiosk.zip", any).secret, "limpet");
}

TEST(KeyRing, PointsOutBlanksThatSpoilAPassword) {
  KeyRing ring;
  ring.add({"limpet ", "the password file"});
  try {
    ring.find("kiosk.zip", limpet);
    FAIL() << "accepted a wrong password";
  } catch (const NeedsKey& error) {
    EXPECT_STREQ(error.what(),
                 "wrong password (1 tried); the password from the password file ends with a blank, and "
                 "without it it is right: remove the blank");
  }
}

TEST(KeyRing, AsksAPersonAgainAfterAWrongAnswerThreeTimesForAContainer) {
  KeyRing ring;
  std::vector<bool> asked;
  ring.set_prompt([&](const std::string&, bool again) {
    asked.push_back(again);
    return std::optional<std::string>(asked.size() == 2 ? "limpet" : "whelk");
  });
  EXPECT_EQ(ring.find("kiosk.zip", limpet).secret, "limpet");
  EXPECT_EQ(ring.find("kiosk.zip", limpet).secret, "limpet");
  EXPECT_EQ(asked, (std::vector<bool>{false, true})) << "the answer is remembered";
  EXPECT_REFUSAL(ring.find("kiosk.zip", none), NeedsKey, "wrong password (3 tried)");
  EXPECT_EQ(asked.size(), 4u) << "one wrong answer was given before";
  EXPECT_REFUSAL(ring.find("kiosk.zip", none), NeedsKey, "wrong password (1 tried)");
  EXPECT_EQ(asked.size(), 4u) << "for the next entry nobody is asked again";
}

TEST(KeyRing, WhoGivesNoAnswerIsNotAskedAgain) {
  KeyRing ring;
  int asked = 0;
  ring.set_prompt([&](const std::string&, bool) {
    ++asked;
    return std::optional<std::string>();
  });
  EXPECT_REFUSAL(ring.find("kiosk.zip", limpet), NeedsKey,
                 "a password is needed; give it with --password-file, in OPERCULUM_PASSWORD or in keys.toml");
  EXPECT_REFUSAL(ring.find("kiosk.zip", limpet), NeedsKey,
                 "a password is needed; give it with --password-file, in OPERCULUM_PASSWORD or in keys.toml");
  EXPECT_EQ(asked, 1);
}

TEST(KeyRing, WhatFitsSurelyComesBeforeWhatFitsPerhaps) {
  KeyRing ring;
  ring.add({"whelk", "keys.toml"});
  ring.add({"limpet", "keys.toml"});
  auto fits = [](const std::string& secret) {
    return secret == "limpet" ? KeyRing::Fit::yes : KeyRing::Fit::perhaps;
  };
  EXPECT_EQ(ring.find("kiosk.zip", fits).secret, "limpet");
  auto perhaps = [](const std::string&) { return KeyRing::Fit::perhaps; };
  EXPECT_EQ(ring.find("kiosk.zip", perhaps).secret, "limpet") << "the one that fitted last";
}

TEST(KeyRing, ShowsAHostOnlyTheKeysThatNameIt) {
  KeyRing ring;
  ring.add({"anything", "a file"});
  ring.add({"gauge:water", "keys.toml"}, "museum.example");
  ring.add({"other:water", "keys.toml"}, "*.zip");
  std::vector<std::string> shown;
  auto fits = [&](const std::string& secret) {
    shown.push_back(secret);
    return KeyRing::Fit::yes;
  };
  EXPECT_EQ(ring.find_for_host("museum.example", fits)->secret, "gauge:water");
  EXPECT_FALSE(ring.find_for_host("stranger.example", fits));
  EXPECT_EQ(shown, std::vector<std::string>{"gauge:water"});
}

TEST(KeyRing, CopiesAreTheSameRing) {
  KeyRing ring, copy = ring;
  copy.add({"tide", "the prompt"});
  EXPECT_EQ(ring.find("a.zip", [](const std::string&) { return KeyRing::Fit::yes; }).secret, "tide");
}

}  // namespace
}  // namespace operculum

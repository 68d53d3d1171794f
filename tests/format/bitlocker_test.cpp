// BitLocker volumes, written by the tests from what is known of them.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "support/bitlocker_writer.h"
#include "support/has.h"
#include "support/open.h"
#include "support/program.h"
#include "support/refusal.h"
#include "support/sentence.h"
#include "support/system_tools.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

using namespace test;

constexpr const char* kPassword = "spring tide";
/// Each group is a multiple of 11.
constexpr const char* kRecovery = "000011-110000-220022-330033-440044-550055-660066-000121";

Bytes content() {
  Bytes out;
  for (std::size_t i = 0; out.size() < kBitLockerSize; ++i) {
    std::string one = fmt::format("reading {:08} of the gauge\n", i);
    out.insert(out.end(), one.begin(), one.end());
  }
  out.resize(kBitLockerSize);
  std::string_view name = "NTFS    ";
  std::copy(name.begin(), name.end(), out.begin() + 3);
  std::fill_n(out.begin() + 56, 8, Byte{0});
  out[56] = 77;  // where the first version keeps the place of its metadata
  return out;
}

auto with_key(std::string secret) {
  return [secret = std::move(secret)](OpenContext& context) { context.keys.add({secret, "the test"}); };
}

Bytes whole(Held& held) {
  return read_up_to(*held->content(0)->source(), 0, kBitLockerSize + 1);
}

std::string failure(Held& held) {
  try {
    whole(held);
  } catch (const Error& error) {
    return error.what();
  }
  return "";
}

struct Form {
  const char* name;
  BitLockerVolume how;
};

struct BitLockerForms : testing::TestWithParam<Form> {};

TEST_P(BitLockerForms, Opens) {
  BitLockerVolume how = GetParam().how;
  how.clear_key = true;
  Held held = open_bytes(write_bitlocker(how, content()), "desk.img");
  ASSERT_EQ(held.format(), "bitlocker");
  Bytes expected = content();
  if (how.first_version) {  // what stands in front of the parameters is that of such a volume
    expected[0] = 0xEB;
    expected[1] = 0x52;
    expected[11] = static_cast<Byte>(how.sector);
    expected[12] = static_cast<Byte>(how.sector >> 8);
    expected[13] = 8;
  }
  EXPECT_TRUE(whole(held) == bitlocker_view(how, expected));
}

INSTANTIATE_TEST_SUITE_P(
    All, BitLockerForms,
    testing::Values(Form{"diffuser128", {.method = 0x8000}}, Form{"diffuser256", {.method = 0x8001}},
                    Form{"diffuser256large", {.method = 0x8001, .sector = 4096}},
                    Form{"cbc128", {.method = 0x8002}}, Form{"cbc256", {.method = 0x8003}},
                    Form{"cbc128large", {.method = 0x8002, .sector = 4096}},
                    Form{"xts128", {.method = 0x8004}}, Form{"xts256", {.method = 0x8005}},
                    Form{"xts128large", {.method = 0x8004, .sector = 4096}},
                    Form{"togo", {.method = 0x8002, .to_go = true}},
                    Form{"first", {.method = 0x8001, .first_version = true}},
                    Form{"halfway", {.state = 5, .encrypted = 0xC0000}}),
    [](const auto& one) { return one.param.name; });

TEST(BitLocker, EveryWayToItsKey) {
  BitLockerVolume how{.password = kPassword, .recovery = kRecovery, .key_file = true};
  Bytes image = write_bitlocker(how, content());
  std::string blanks = kRecovery;
  std::replace(blanks.begin(), blanks.end(), '-', ' ');
  for (const std::string& secret : {std::string(kPassword), blanks, bitlocker_key_file()}) {
    Held held = open_bytes(image, "desk.img", As::file, with_key(secret));
    EXPECT_TRUE(whole(held) == bitlocker_view(how, content())) << secret;
  }
  Held held = open_bytes(image, "desk.img");
  std::vector<std::string> ways;
  for (const auto& [name, value] : held->facts())
    if (name == "unlocked by") ways.push_back(value.substr(0, value.find(" (")));
  EXPECT_EQ(ways, (std::vector<std::string>{"password", "recovery password", "key file"}));
  EXPECT_EQ(fact(*held, "label"), "TIDE-DESK D: 3/4/2021");
  EXPECT_EQ(fact(*held, "cipher"), "AES in XTS mode, 128 bits");
}

TEST(BitLocker, AWrongKeyIsNoDamage) {
  BitLockerVolume how{.password = kPassword, .recovery = kRecovery, .key_file = true};
  Bytes image = write_bitlocker(how, content());
  std::string other = kRecovery;
  other.replace(0, 6, "000022");
  std::string file = bitlocker_key_file();
  file.back() ^= 1;
  for (const std::string& secret : {std::string("neap tide"), other, file}) {
    Held held = open_bytes(image, "desk.img", As::file, with_key(secret));
    EXPECT_TRUE(has(failure(held), "wrong password (1 tried)")) << failure(held);
  }
}

TEST(BitLocker, WhatCannotBeOpenedIsNamed) {
  Held chip = open_bytes(write_bitlocker({.chip = true}, content()), "desk.img");
  EXPECT_TRUE(has(failure(chip), "without a password or key file (security chip)")) << failure(chip);
  Held on_write = open_bytes(write_bitlocker({.encrypted_on_write = true, .password = kPassword}, content()),
                             "desk.img", As::file, with_key(kPassword));
  EXPECT_TRUE(has(failure(on_write), "encrypted as they are written to")) << failure(on_write);
  Held method = open_bytes(write_bitlocker({.method = 0x8009, .password = kPassword}, content()), "desk.img",
                           As::file, with_key(kPassword));
  EXPECT_TRUE(has(failure(method), "encrypted with method 0x8009")) << failure(method);
}

TEST(BitLocker, MetadataThatMakeNoSenseAreRefused) {
  auto told = [](const BitLockerVolume& how) {
    return sentence([&] {
      Held held = open_bytes(write_bitlocker(how, content()), "desk.img", As::file, with_key(kPassword));
      whole(held);
    });
  };
  EXPECT_EQ(
      told({.password = kPassword, .head_moved = kBitLockerSize}),
      "BitLocker metadata: the first 8192 bytes of the volume are said to be at offset 1703936, beyond its "
      "1048576 bytes");
  EXPECT_EQ(told({.password = kPassword, .short_key = true}),
            "BitLocker metadata: the volume's key has 16 bytes, too few for AES in XTS mode, 128 bits");
}

TEST(BitLocker, AnotherCopyOfTheMetadataServes) {
  BitLockerVolume how{.password = kPassword};
  Bytes image = write_bitlocker(how, content());
  image[kBitLockerMetadataAt[0] + 130] ^= 1;
  Held held = open_bytes(image, "desk.img", As::file, with_key(kPassword));
  EXPECT_TRUE(has_finding(*held,
                          "a copy of the metadata is damaged (BitLocker metadata at offset 262144: "
                          "expected CRC-32"));
  EXPECT_TRUE(whole(held) == bitlocker_view(how, content()));
  for (std::uint64_t at : kBitLockerMetadataAt) image[at + 131] ^= 1;
  EXPECT_REFUSAL(
      {
        try {
          open_bytes(image, "desk.img");
        } catch (const Malformed& error) {
          EXPECT_TRUE(has(error.what(), "expected CRC-32")) << error.what();
          throw;
        }
      },
      Malformed, "BitLocker metadata at offset 262144: expected CRC-32 ad94b31c, found c1db95ce");
}

TEST(BitLocker, ADecryptedVolumeIsPlain) {
  BitLockerVolume how{.state = 1, .encrypted = 0};
  how.clear_key = true;
  Held held = open_bytes(write_bitlocker(how, content()), "desk.img");
  EXPECT_TRUE(whole(held) == bitlocker_view(how, content()));
}

TEST(BitLocker, TheProgramTakesKeyFilesAndGivesTheDisk) {
  TempFolder folder;
  BitLockerVolume how{.key_file = true};
  folder.write("desk.img", as_text(write_bitlocker(how, content())));
  folder.write("desk.bek", bitlocker_key_file());
  std::vector<std::string> convert = {"convert", "desk.img", "--as", "raw", "--into"};
  auto run = [&](std::vector<std::string> more) {
    std::vector<std::string> all = convert;
    all.insert(all.end(), more.begin(), more.end());
    return test::operculum(all, folder.path());
  };
  Ran ran = run({"desk.raw", "--key-file", "desk.bek"});
  ASSERT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(folder.read("desk.raw") == as_text(bitlocker_view(how, content())));
  folder.write("other.bek", "no key ");
  Ran wrong = run({"other.raw", "--key-file", "other.bek"});
  EXPECT_TRUE(has(wrong.err, "wrong password (1 tried)")) << wrong.err;
  EXPECT_FALSE(has(wrong.err, "blank")) << wrong.err;  // bytes of a file are meant
  folder.write("config/operculum/keys.toml", "[[key]]\nfile = \"keys/desk.bek\"\n");
  folder.write("config/operculum/keys/desk.bek", bitlocker_key_file());
  std::vector<std::string> all = convert;
  all.push_back("ring.raw");
  Ran by_ring = test::operculum(all, folder.path(), {{"XDG_CONFIG_HOME", folder.path("config")}});
  EXPECT_EQ(by_ring.exit_code, 0) << by_ring.err;
  EXPECT_EQ(folder.read("ring.raw"), folder.read("desk.raw"));
}

}  // namespace
}  // namespace operculum

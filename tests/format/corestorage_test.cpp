// CoreStorage volumes, plain and encrypted, written here from what is known of them.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "support/corestorage_writer.h"
#include "support/has.h"
#include "support/open.h"
#include "support/refusal.h"
#include "support/system_tools.h"

namespace operculum {
namespace {

using namespace test;

auto with_key(std::string secret) {
  return [secret = std::move(secret)](OpenContext& context) { context.keys.add({secret, "the test"}); };
}

std::string failure(const CoreStorageVolume& form, const std::string& secret = kCorePassphrase) {
  try {
    Held held = open_bytes(make_corestorage(form), "log.img", As::file, with_key(secret));
    text_of(*held, 0);
  } catch (const Error& error) {
    return error.what();
  }
  return "";
}

TEST(CoreStorage, PlainAndEncryptedVolumes) {
  for (const CoreStorageVolume& form :
       {CoreStorageVolume{}, CoreStorageVolume{.encrypted = false}, CoreStorageVolume{.two_runs = true},
        CoreStorageVolume{.packed_list = true}, CoreStorageVolume{.encrypted = false, .two_runs = true}}) {
    Held held = open_bytes(make_corestorage(form), "log.img", As::file, with_key(kCorePassphrase));
    ASSERT_EQ(held.format(), "corestorage");
    EXPECT_TRUE(text_of(*held, 0) == as_text(corestorage_content())) << form.encrypted << form.two_runs;
    EXPECT_EQ(fact(*held, "label"), "tide log");
    EXPECT_EQ(fact(*held, "cipher").empty(), !form.encrypted);
  }
}

TEST(CoreStorage, WhatCannotBeOpenedIsNamed) {
  EXPECT_TRUE(has(failure({}, "high water"), "wrong password (1 tried)")) << failure({}, "high water");
  EXPECT_TRUE(has(failure({.status = "Converting"}), "encryption was not finished (Converting)"));
  EXPECT_TRUE(has(failure({.two_volumes = true}), "groups of several logical volumes"));
}

TEST(CoreStorage, MetadataThatCannotBeAreToldWithWhatTheySay) {
  EXPECT_TRUE(has(failure({.method = 7}), "CoreStorage metadata encrypted with method 7"));
  EXPECT_TRUE(has(failure({.more_places = 300}), "expected at most 203 places, found 301"));
  EXPECT_TRUE(has(failure({.first_block = 2}), "expected the volume to go on at 0, found 8192"));
  EXPECT_TRUE(has(failure({.size = 1 << 20}), "expected places for 1048576 bytes, found 262144"));
  EXPECT_TRUE(has(failure({.family = "lost"}), "\"lost\" is no identifier of a family"));
  EXPECT_TRUE(
      has(failure({.damaged_key = true}), "the passphrase is right, but the volume's key is damaged"));
  EXPECT_TRUE(has(failure({.after_list = "<dict"}), "CoreStorage property list: "));
}

TEST(CoreStorage, DamagedMetadataAreToldByTheirSums) {
  Bytes raw = make_corestorage({});
  raw[kCoreLabelAt + 100] ^= 1;
  auto said = [&](const Bytes& bytes) {
    try {
      open_bytes(bytes, "log.img");
    } catch (const Error& error) {
      return std::string(error.what());
    }
    return std::string();
  };
  EXPECT_TRUE(has(said(raw), "CoreStorage label at offset")) << said(raw);
  raw = make_corestorage({});
  raw[kCoreMetadataAt + 70] ^= 1;  // where the volume is
  EXPECT_TRUE(has(said(raw), "there is no logical volume in them")) << said(raw);
  raw = make_corestorage({});
  raw[100] ^= 1;
  EXPECT_EQ(open_bytes(raw, "log.img").format(), "none");
}

TEST(CoreStorage, ACutImageEndsInASentence) {
  Bytes cut = make_corestorage({});
  cut.resize(70 * kCoreBlock);
  Held held = open_bytes(cut, "log.img", As::file, with_key(kCorePassphrase));
  EXPECT_REFUSAL(
      {
        try {
          text_of(*held, 0);
        } catch (const CutShort& error) {
          EXPECT_TRUE(has(error.what(), "cut short")) << error.what();
          throw;
        }
      },
      CutShort, "the encrypted disk is cut short");
}

}  // namespace
}  // namespace operculum

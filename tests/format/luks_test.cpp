// LUKS volumes that cryptsetup made and the kernel filled, and a whole stack of a server's disks.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "support/kernel_images.h"
#include "support/program.h"
#include "support/refusal.h"
#include "support/system_tools.h"

namespace operculum {
namespace {

using namespace test;

constexpr const char* kPassphrase = "ebb and flow";

auto with_key(const std::string& secret) {
  return [secret](OpenContext& context) { context.keys.add({secret, "the test"}); };
}

/// The sectors that were written: each tells its number.
std::string sectors() {
  std::string out;
  for (int i = 0; i < 64; ++i) {
    std::string one = fmt::format("sector {:08} of the device\n", i);
    one.resize(512, '.');
    out += one;
  }
  return out;
}

std::string front_of(Held& held) {
  Bytes front = read_up_to(*held->content(0)->source(), 0, 64 * 512);
  return std::string(as_text(front));
}

struct LuksVolume : testing::TestWithParam<const char*> {
  std::string name = std::string("luks-") + GetParam();
  KernelImages images{name};
};

TEST_P(LuksVolume, OpensWithItsPassphrase) {
  Held held = images.open(name + ".img", with_key(kPassphrase));
  ASSERT_EQ(held.format(), "luks");
  EXPECT_EQ(front_of(held), sectors());
  EXPECT_EQ(fact(*held, "version"), GetParam()[0] == '1' ? "LUKS1" : "LUKS2");
}

TEST_P(LuksVolume, ReadsFromAnywhere) {
  Held held = images.open(name + ".img", with_key(kPassphrase));
  SourcePtr disk = held->content(0)->source();
  std::string all = sectors();
  for (std::size_t at : {1u, 511u, 512u, 4095u, 5000u}) {
    Bytes some = read_up_to(*disk, at, 3000);
    EXPECT_EQ(as_text(some), all.substr(at, 3000)) << at;
  }
}

TEST_P(LuksVolume, AWrongPassphraseIsNoDamage) {
  Held held = images.open(name + ".img", with_key("flow and ebb"));
  EXPECT_REFUSAL(
      {
        try {
          front_of(held);
        } catch (const NeedsKey& error) {
          EXPECT_NE(std::string(error.what()).find("wrong password"), std::string::npos) << error.what();
          throw;
        }
      },
      NeedsKey, "wrong password (1 tried)");
}

INSTANTIATE_TEST_SUITE_P(Sets, LuksVolume,
                         testing::Values("1", "1-essiv", "1-plain", "1-camellia", "2-two", "2-argon2id",
                                         "2-argon2i"),
                         [](const auto& one) {
                           std::string name = one.param;
                           std::erase(name, '-');
                           return "v" + name;
                         });

TEST(Luks, EverySlotOpensIt) {
  KernelImages images("luks-2-two");
  Held held = images.open("luks-2-two.img", with_key("second key"));
  EXPECT_EQ(front_of(held), sectors());
}

TEST(Luks, TellsItsHeaderWithoutAKey) {
  KernelImages images("luks-2-argon2id");
  Held held = images.open("luks-2-argon2id.img");
  EXPECT_EQ(fact(*held, "key slots"), "1: argon2id");
  EXPECT_EQ(fact(*held, "uuid").size(), 36u);
  EXPECT_REFUSAL(front_of(held), NeedsKey,
                 "a password is needed; give it with --password-file, in OPERCULUM_PASSWORD or in keys.toml");
  Ran ran = test::operculum({"identify", images.path("luks-2-argon2id.img")}, images.path());
  EXPECT_EQ(ran.exit_code, 0);
  EXPECT_NE(ran.out.find("LUKS encrypted volume"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("what is in it cannot be told"), std::string::npos) << ran.out;
  EXPECT_EQ(ran.out.find("holding"), std::string::npos) << ran.out;  // not "a data file ()"
}

TEST(Luks, TheSecondHeaderServesWhenTheFirstIsDamaged) {
  KernelImages images("luks-2-two");
  std::string raw = images.folder().read("luks-2-two.img");
  raw[4096 + 20] ^= 1;  // the text of the first one
  images.folder().write("luks-2-two.img", raw);
  Held held = images.open("luks-2-two.img", with_key(kPassphrase));
  EXPECT_TRUE(has_finding(*held, "its copy was used"));
  EXPECT_EQ(front_of(held), sectors());
}

TEST(Luks, ADamagedKeySlotIsNoWrongFile) {
  KernelImages images("luks-1");
  std::string raw = images.folder().read("luks-1.img");
  raw[4096 + 100] ^= 1;  // in the first slot's stripes
  images.folder().write("luks-1.img", raw);
  Held held = images.open("luks-1.img", with_key(kPassphrase));
  EXPECT_REFUSAL(front_of(held), NeedsKey, "wrong password (1 tried)");
}

/// The volume with other bytes at a place, and with its passphrase.
Held opened_with(const KernelImages& images, std::size_t at, const std::string& bytes) {
  std::string raw = images.folder().read("luks-1.img");
  raw.replace(at, bytes.size(), bytes);
  images.folder().write("luks-1.img", raw);
  return images.open("luks-1.img", with_key(kPassphrase));
}

TEST(Luks, NamesACipherThatIsNotHere) {
  KernelImages images("luks-1");
  Held held = opened_with(images, 8, std::string("serpent\0", 8));
  EXPECT_REFUSAL(
      {
        try {
          front_of(held);
        } catch (const Unsupported& error) {
          EXPECT_NE(std::string(error.what()).find("serpent-xts-plain64"), std::string::npos) << error.what();
          throw;
        }
      },
      Unsupported, "Unsupported: the cipher serpent-xts-plain64 with keys of 256 bits");
}

TEST(Luks, SlotsThatCannotBeAreTold) {
  KernelImages images("luks-1");
  Held held = opened_with(images, 208 + 44, std::string(4, '\x7f'));  // stripes of the first slot
  EXPECT_REFUSAL(front_of(held), Malformed, "LUKS slot 0: 2139062143 stripes of a key of ");
}

TEST(Luks, WithoutAKeySlotNothingOpensIt) {
  KernelImages images("luks-1");
  std::string raw = images.folder().read("luks-1.img");
  constexpr std::size_t kSlots = 8, kFirst = 208, kSlotSize = 48;
  for (std::size_t i = 0; i < kSlots; ++i)
    raw.replace(kFirst + i * kSlotSize, 4, std::string("\0\0\xde\xad", 4));  // LUKS_KEY_DISABLED
  images.folder().write("luks-1.img", raw);
  Held held = images.open("luks-1.img", with_key(kPassphrase));
  EXPECT_REFUSAL(front_of(held), Unsupported, "Unsupported: LUKS without a key slot: nothing can open it");
}

/// Sizes that nobody waits for or has.
TEST(Luks, HostileDerivationsAreRefused) {
  KernelImages images("luks-1");
  Held held = opened_with(images, 208 + 4, std::string(4, '\x7f'));  // rounds of the first slot
  EXPECT_REFUSAL(front_of(held), LimitExceeded,
                 "deriving the key takes 2139062143 rounds, more than the 50000000 that are done");
}

/// The header in one file, the data in another.
TEST(Luks, AHeaderThatIsDetachedFromItsData) {
  KernelImages images("luks-1");
  const TempFolder& folder = images.folder();
  std::string raw = folder.read("luks-1.img");
  auto number = [&](std::size_t at) {
    std::uint32_t value = 0;
    for (std::size_t i = 0; i < 4; ++i) value = value << 8 | static_cast<unsigned char>(raw[at + i]);
    return value;
  };
  constexpr std::size_t kPayloadAt = 104;
  std::size_t data_at = number(kPayloadAt) * std::size_t{512};
  folder.write("data.img", raw.substr(data_at));
  std::string head = raw.substr(0, data_at);
  head.replace(kPayloadAt, 4, 4, '\0');
  folder.write("head.img", head);
  folder.write("pw", std::string_view(kPassphrase));
  Ran alone = test::operculum({"identify", "head.img"}, folder.path());
  EXPECT_EQ(alone.exit_code, 0) << alone.err;
  EXPECT_NE(alone.out.find("LUKS1"), std::string::npos) << alone.out;
  EXPECT_NE(alone.out.find("name this one with --luks-header"), std::string::npos) << alone.out;
  EXPECT_NE(test::operculum({"show", "head.img/head.raw"}, folder.path()).exit_code, 0);
  Ran both = test::operculum({"convert", "data.img", "--as", "raw", "--into", "out.raw", "--luks-header",
                              "head.img", "--password-file", "pw"},
                             folder.path());
  ASSERT_EQ(both.exit_code, 0) << both.err;
  EXPECT_EQ(folder.read("out.raw").substr(0, sectors().size()), sectors());
  Ran wrong = test::operculum({"list", "data.img", "--luks-header", "pw"}, folder.path());
  EXPECT_NE(wrong.err.find("LUKS"), std::string::npos) << wrong.err;
  EXPECT_NE(wrong.exit_code, 0);
}

TEST(Luks, AMirrorAGroupALockedVolumeAndAFileSystemInOneLocator) {
  KernelImages images("gallery");
  images.folder().write("password", std::string_view(kPassphrase));
  auto show = [&](const std::string& member, const std::string& rest) {
    return test::operculum(
        {"show", images.path(member) + "/exhibits/" + rest, "--password-file", images.path("password")},
        images.path());
  };
  EXPECT_EQ(show("gallery-disk-0.img", "hall/hours.txt").out, "Closed until the pump is repaired.\n");
  EXPECT_EQ(show("gallery-disk-1.img", "before-the-storm/hours.txt").out, "Opens at nine.\n");
  EXPECT_EQ(show("gallery-disk-0.img", "hall/captions.zip/crab.txt").out,
            "The crab is older than it looks.\n");
  images.remove("gallery-disk-1.img");
  Ran ran = test::operculum(
      {"identify", images.path("gallery-disk-0.img"), "--password-file", images.path("password")},
      images.path());
  EXPECT_NE(ran.out.find("degraded"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("LUKS encrypted volume, holding a btrfs file system"), std::string::npos) << ran.out;
}

}  // namespace
}  // namespace operculum

// Volumes with integrity tags that the kernel wrote: with checksums, and with LUKS2's authenticated sectors.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "support/has.h"
#include "support/kernel_images.h"
#include "support/sentence.h"
#include "support/system_tools.h"

namespace operculum {
namespace {

using namespace test;

constexpr std::size_t kWritten = 300, kPages = 296;  // sectors; of sealed ones only whole pages are written

std::string sectors() {
  std::string out;
  for (std::size_t i = 0; i < kWritten; ++i) {
    std::string one = fmt::format("sector {:08} of the device\n", i);
    one.resize(512, '.');
    out += one;
  }
  return out;
}

struct Checksummed {
  const char* name;
  std::size_t size, block;
};

struct IntegrityVolume : testing::TestWithParam<Checksummed> {
  std::string set = std::string("integrity-") + GetParam().name;
  KernelImages images{set};
};

TEST_P(IntegrityVolume, GivesItsData) {
  Held held = images.open(set + ".img");
  ASSERT_EQ(held.format(), "integrity");
  std::string text = text_of(*held, 0);
  EXPECT_EQ(text.size(), GetParam().size);
  EXPECT_EQ(text.substr(0, sectors().size()), sectors());
  EXPECT_EQ(text.find_first_not_of('\0', sectors().size()), std::string::npos);
  EXPECT_EQ(fact(*held, "checksum"), GetParam().name);
  EXPECT_TRUE(held->entries()[0].is(Entry::has_sum));
  EXPECT_TRUE(held->findings().empty());
}

TEST_P(IntegrityVolume, TellsTheBlockThatDoesNotFit) {
  std::string raw = images.folder().read(set + ".img");
  std::size_t at = raw.find("sector 00000217");
  ASSERT_NE(at, std::string::npos);
  raw[at + 30] ^= 1;
  images.folder().write(set + ".img", raw);
  Held held = images.open(set + ".img");
  std::size_t begin = 217 * 512 / GetParam().block * GetParam().block;
  EXPECT_TRUE(has(sentence([&] { text_of(*held, 0); }),
                  fmt::format("the block at offset {} does not fit its integrity tag", begin)));
  Bytes before = read_up_to(*held->content(0)->source(), 0, begin);
  EXPECT_EQ(as_text(before), sectors().substr(0, begin));
}

INSTANTIATE_TEST_SUITE_P(Sums, IntegrityVolume,
                         testing::Values(Checksummed{"crc32c", 921600, 512},
                                         Checksummed{"sha256", 880640, 4096},
                                         Checksummed{"xxhash64", 921600, 512}),
                         [](const auto& one) { return std::string(one.param.name); });

struct AuthenticatedLuks : testing::TestWithParam<const char*> {
  std::string set = std::string("luks-2-") + GetParam();
  KernelImages images{set};
  Held open(const std::string& secret) const {
    return images.open(set + ".img", [&](OpenContext& context) { context.keys.add({secret, "the test"}); });
  }
};

TEST_P(AuthenticatedLuks, OpensWithItsPassphrase) {
  Held held = open("ebb and flow");
  ASSERT_EQ(held.format(), "luks");
  SourcePtr disk = held->content(0)->source();
  EXPECT_EQ(as_text(read_up_to(*disk, 0, kPages * 512)), sectors().substr(0, kPages * 512));
  EXPECT_TRUE(has(sentence([&] { read_up_to(*disk, 1 << 20, 512); }),  // never written
                  "the block at offset 1048576 does not fit its integrity tag"));
}

TEST_P(AuthenticatedLuks, DamageIsNoWrongPassphrase) {
  Held wrong = open("flow and ebb");
  EXPECT_TRUE(has(sentence([&] { read_up_to(*wrong->content(0)->source(), 0, 512); }), "wrong password"));
  std::string raw = images.folder().read(set + ".img");
  std::size_t super = raw.rfind("integrt");
  ASSERT_NE(super, std::string::npos);
  // behind superblock, journal and tags the first sector lies: what is changed is found by its number
  for (std::size_t at = raw.size() - 512; at > super; at -= 512) {
    std::string_view sector = std::string_view(raw).substr(at, 512);
    if (sector.find_first_not_of('\0') == std::string_view::npos) continue;
    raw[at + 5] ^= 1;
    break;
  }
  images.folder().write(set + ".img", raw);
  Held held = open("ebb and flow");
  SourcePtr disk = held->content(0)->source();
  EXPECT_TRUE(has(sentence([&] { read_up_to(*disk, 0, kPages * 512); }),
                  "the block at offset 151040 does not fit its integrity tag"));
  EXPECT_EQ(as_text(read_up_to(*disk, 0, 512)), sectors().substr(0, 512));
}

TEST_P(AuthenticatedLuks, TagsOfAnotherSizeAreTold) {
  std::string raw = images.folder().read(set + ".img");
  std::size_t super = raw.rfind("integrt");
  ASSERT_NE(super, std::string::npos);
  raw[super + 10] = 7;
  images.folder().write(set + ".img", raw);
  Held held = open("ebb and flow");
  EXPECT_TRUE(has(sentence([&] { read_up_to(*held->content(0)->source(), 0, 512); }), "bytes, found 7"));
}

INSTANTIATE_TEST_SUITE_P(Ciphers, AuthenticatedLuks, testing::Values("aes-xts-plain64", "chacha20-random"),
                         [](const auto& one) {
                           std::string name = one.param;
                           std::erase(name, '-');
                           return name;
                         });

TEST(Integrity, RefusesWhatCannotBe) {
  KernelImages images("integrity-crc32c");
  std::string raw = images.folder().read("integrity-crc32c.img");
  auto changed = [&](std::size_t at, char to) {
    std::string other = raw;
    other[at] = to;
    images.folder().write("integrity-crc32c.img", other);
    return sentence([&] { text_of(*images.open("integrity-crc32c.img"), 0); });
  };
  EXPECT_TRUE(has(changed(8, 9), "dm-integrity of version 9"));
  EXPECT_TRUE(has(changed(9, 0), "tags on another device"));
  EXPECT_TRUE(has(changed(9, 40), "areas of 2^40 sectors"));
  EXPECT_TRUE(has(changed(11, 9), "integrity_tag_size (at 10) to be 1 to 256"));
  EXPECT_TRUE(has(changed(20, 9), "cut short"));  // more sectors than there are
}

}  // namespace
}  // namespace operculum

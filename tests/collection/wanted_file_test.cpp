#include "collection/wanted_file.h"

#include <gtest/gtest.h>

#include "base/checksum.h"
#include "io/digest.h"
#include "support/sample_tree.h"

namespace operculum {
namespace {

TEST(WantedFile, KnowsItsSumsAndItsBytes) {
  Bytes bytes = test::noise(200'000);
  WantedFile wanted(make_memory_source(bytes));
  EXPECT_EQ(wanted.size(), bytes.size());
  EXPECT_EQ(wanted.crc32(), crc32(0, bytes));
  EXPECT_EQ(wanted.sha256(), sha256_of(*make_memory_source(bytes)));
  ByteView all(bytes);
  EXPECT_TRUE(wanted.has(0, all));
  EXPECT_TRUE(wanted.has(70'000, all.subspan(70'000, 100'000)));
  EXPECT_FALSE(wanted.has(70'001, all.subspan(70'000, 100'000)));
  Bytes changed = bytes;
  changed.back() ^= 1;
  EXPECT_FALSE(wanted.has(0, changed));
  EXPECT_FALSE(wanted.has(199'999, all.first(2))) << "behind the end is nothing";
}

TEST(WantedFile, LiesInNothingThatIsFarTooSmall) {
  WantedFile packs_badly(make_memory_source(test::noise(1 << 20)));
  EXPECT_FALSE(packs_badly.may_lie_in(5'000)) << "noise does not get that small";
  EXPECT_TRUE(packs_badly.may_lie_in(20'000)) << "the rest of it may be of another kind";
  WantedFile packs_well(make_memory_source(Bytes(1 << 20)));
  EXPECT_TRUE(packs_well.may_lie_in(2'000));
  EXPECT_TRUE(WantedFile(make_memory_source({})).may_lie_in(30));
}

}  // namespace
}  // namespace operculum

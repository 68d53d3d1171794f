#include "layout/run/region.h"

#include <gtest/gtest.h>

#include "base/error.h"
#include "support/counting_source.h"
#include "support/refusal.h"
#include "support/sample_tree.h"

namespace operculum::layout {
namespace {

using test::CountingSource;

constexpr std::size_t kSize = 24 << 20;

struct RegionReads : testing::Test {
  Bytes all = test::noise(kSize);
  std::shared_ptr<CountingSource> source = std::make_shared<CountingSource>(all);
  Region region{source, "", Region::Origin{}};

  void expect(std::size_t at, std::size_t count) {
    ByteView found = region.at(at, count);
    ASSERT_TRUE(std::equal(found.begin(), found.end(), all.begin() + static_cast<std::ptrdiff_t>(at))) << at;
    ASSERT_EQ(found.size(), count);
  }
};

TEST_F(RegionReads, OneBehindTheOtherReadEveryByteOnce) {
  for (std::size_t at = 0; at + 12 <= kSize; at += 12) expect(at, 12);
  EXPECT_LE(source->given, kSize + kSize / 64);  // and what crosses
  EXPECT_LE(source->reads, kSize / 65'536 * 2 + 16);
}

TEST_F(RegionReads, FromTwoPlacesInTurnReadAheadInBoth) {
  for (std::size_t at = 0; at + 8 <= kSize / 2; at += 8) {
    expect(at, 8);
    expect(kSize / 2 + at, 8);
  }
  EXPECT_LE(source->reads, kSize / 65'536 * 2 + 64);
}

TEST_F(RegionReads, AnywhereTakeAPageEach) {
  constexpr std::size_t kReads = 20'000;
  for (std::size_t i = 0; i < kReads; ++i) expect(i * 7'919 * 13 % (kSize - 8), 8);
  EXPECT_LE(source->given, kReads * 4'200);
}

TEST_F(RegionReads, LargeOnesAndThoseAcrossAndAtTheEnd) {
  for (std::size_t at : {4'090u, 65'530u, 1'000'000u, 4'194'300u}) {
    expect(at, 8);
    expect(at, 70'000);
    expect(at, 60'000);
  }
  expect(kSize - 1, 1);
  expect(kSize, 0);
  EXPECT_REFUSAL(region.at(kSize - 1, 2), CutShort,
                 "expected 2 bytes at offset 25165823, but the file ends after 1");
  EXPECT_REFUSAL(region.at(kSize + 1, 0), CutShort,
                 "offset 25165825 lies outside the file, which has 25165824 bytes");
}

}  // namespace
}  // namespace operculum::layout

#include "collection/byte_diff.h"

#include <gtest/gtest.h>

#include "support/byte_writer.h"

namespace operculum::test {
namespace {

ByteDiff diff(const Bytes& before, const Bytes& after) {
  StreamPtr a = make_source_stream(make_memory_source(before)),
            b = make_source_stream(make_memory_source(after));
  return diff_bytes(*a, *b, [](std::uint64_t) {});
}

TEST(ByteDiff, CountsBytesAndRanges) {
  Bytes before(1000, 7), after = before;
  after[100] = after[101] = after[500] = 8;
  ByteDiff found = diff(before, after);
  EXPECT_EQ(found.differing, 3u);
  ASSERT_EQ(found.range_count, 2u);
  EXPECT_EQ(found.ranges[0].begin, 100u);
  EXPECT_EQ(found.ranges[0].end, 102u);
  EXPECT_EQ(found.ranges[1].begin, 500u);
  EXPECT_EQ(found.shown_at, 88u);  // one line of eight ahead of the line of the difference
  EXPECT_EQ(found.before_bytes.size(), ByteDiff::kShown);
  EXPECT_EQ(found.after_bytes[12], 8);
}

TEST(ByteDiff, SeesARangeAcrossTheBlocksThatAreRead) {
  constexpr std::size_t kBlock = 256 << 10;
  Bytes before(2 * kBlock + 10, 1), after = before;
  for (std::size_t i = kBlock - 3; i < kBlock + 3; ++i) after[i] = 2;
  ByteDiff found = diff(before, after);
  EXPECT_EQ(found.differing, 6u);
  ASSERT_EQ(found.range_count, 1u);
  EXPECT_EQ(found.ranges[0].end, kBlock + 3);
}

TEST(ByteDiff, ShowsTheBlockBeforeADifferenceThatBeginsABlock) {
  constexpr std::size_t kBlock = 256 << 10;
  Bytes before(kBlock + 40, 1), after = before;
  before[kBlock - 1] = after[kBlock - 1] = 9;
  after[kBlock] = 2;
  ByteDiff found = diff(before, after);
  EXPECT_EQ(found.shown_at, kBlock - 8);
  ASSERT_EQ(found.before_bytes.size(), ByteDiff::kShown);
  EXPECT_EQ(found.before_bytes[7], 9);
  EXPECT_EQ(found.after_bytes[8], 2);
}

TEST(ByteDiff, TellsALongerFileFromAChangedOne) {
  Bytes before(100, 3), after(120, 3);
  ByteDiff found = diff(before, after);
  EXPECT_EQ(found.range_count, 0u);
  EXPECT_EQ(found.before_size, 100u);
  EXPECT_EQ(found.after_size, 120u);
  EXPECT_EQ(found.shown_at, 88u);
  EXPECT_EQ(found.before_bytes.size(), 12u);
  EXPECT_EQ(found.after_bytes.size(), 32u);
}

}  // namespace
}  // namespace operculum::test

#include "collection/text_diff.h"

#include <gtest/gtest.h>

namespace operculum::test {
namespace {

std::string diff(std::string_view before, std::string_view after) {
  return unified(*diff_texts(before, after));
}

TEST(TextDiff, OfEqualTextsIsEmpty) {
  TextDiff same = *diff_texts("a\nb\n", "a\nb\n");
  EXPECT_TRUE(same.hunks.empty());
  EXPECT_EQ(same.added + same.removed, 0u);
}

// What `diff -u` prints for the same texts.
TEST(TextDiff, ShowsChangedLinesWithThoseAround) {
  EXPECT_EQ(diff("1\n2\n3\n4\n5\n6\n7\n8\n9\n", "1\n2\n3\n4\nfive\n6\n7\n8\n9\n"),
            "@@ -2,7 +2,7 @@\n 2\n 3\n 4\n-5\n+five\n 6\n 7\n 8\n");
}

TEST(TextDiff, NamesEmptyRangesByTheLineBefore) {
  EXPECT_EQ(diff("", "new\n"), "@@ -0,0 +1 @@\n+new\n");
  EXPECT_EQ(diff("old\n", ""), "@@ -1 +0,0 @@\n-old\n");
  EXPECT_EQ(diff("a\n", "a\nb\n"), "@@ -1 +1,2 @@\n a\n+b\n");
}

TEST(TextDiff, HunksThatWouldTouchAreOne) {
  std::string before, after;
  for (int i = 0; i < 30; ++i) {
    before += std::to_string(i) + "\n";
    after += (i == 5 || i == 11 || i == 25 ? "x" : std::to_string(i)) + "\n";
  }
  TextDiff two = *diff_texts(before, after);
  ASSERT_EQ(two.hunks.size(), 2u) << unified(two);
  EXPECT_EQ(two.hunks[0].before_at, 3u);
  EXPECT_EQ(two.hunks[0].before_count, 13u);
  EXPECT_EQ(two.added, 3u);
  EXPECT_EQ(two.removed, 3u);
}

TEST(TextDiff, GivesBackTheSecondTextWhenItIsApplied) {
  std::string before, after;
  for (unsigned i = 0; i < 400; ++i) {
    std::string line = std::to_string(i * 7919 % 61) + "\n";
    if (i % 13 != 0) before += line;
    if (i % 17 != 0) after += line;
  }
  TextDiff found = *diff_texts(before, after, 1000);
  std::string made, taken;
  for (const DiffHunk& hunk : found.hunks) {
    for (const DiffLine& line : hunk.lines) {
      if (line.mark != '-') made += line.text + "\n";
      if (line.mark != '+') taken += line.text + "\n";
    }
  }
  EXPECT_EQ(made, after);
  EXPECT_EQ(taken, before);
}

TEST(TextDiff, GivesUpOnTextsOfTooManyLines) {
  EXPECT_FALSE(diff_texts(std::string(2 * kMostDiffLines, '\n'), "a\n"));
}

}  // namespace
}  // namespace operculum::test

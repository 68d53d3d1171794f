#include "base/text_marks.h"

#include <gtest/gtest.h>

#include <string>

namespace operculum {
namespace {

TEST(TextMarks, AreKeptByTextAndTheFirstOneCounts) {
  TextMarks marks;
  EXPECT_EQ(marks.find("pool/crab.txt"), 0);
  EXPECT_EQ(marks.mark("pool/crab.txt", 2), 0);
  EXPECT_EQ(marks.mark("pool/crab.txt", 1), 2);
  EXPECT_EQ(marks.find("pool/crab.txt"), 2);
  EXPECT_EQ(marks.find("pool/crab.tx"), 0);
  EXPECT_EQ(marks.mark("", 3), 0);
  EXPECT_EQ(marks.find(""), 3);
}

TEST(TextMarks, StayWhileTheyBecomeMany) {
  constexpr int kTexts = 20'000;
  TextMarks marks;
  auto text = [](int i) { return "drawer/" + std::to_string(i); };
  for (int i = 0; i < kTexts; ++i) EXPECT_EQ(marks.mark(text(i), static_cast<TextMarks::Mark>(i % 3 + 1)), 0);
  for (int i = 0; i < kTexts; ++i) EXPECT_EQ(marks.find(text(i)), i % 3 + 1) << text(i);
  EXPECT_EQ(marks.find(text(kTexts)), 0);
}

}  // namespace
}  // namespace operculum

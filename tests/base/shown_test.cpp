// What goes to a terminal: words of ours, and anybody's made printable.
#include "base/shown.h"

#include <gtest/gtest.h>

namespace operculum {
namespace {

TEST(Shown, WordsOfOthersAreMadePrintableWithoutBeingAsked) {
  std::string name = "crab\x1b[2J\n.png";
  EXPECT_EQ(Shown(name), "crab\\x1b[2J .png");
  EXPECT_EQ(shown("{}: {} bytes\n", name, 12), "crab\\x1b[2J .png: 12 bytes\n");
  EXPECT_EQ(shown("{}\n", std::string_view(name)), "crab\\x1b[2J .png\n");
  EXPECT_EQ(shown("{}\n", name.c_str()), "crab\\x1b[2J .png\n");
  EXPECT_EQ(shown("{:>4}|{:<4}|\n", std::string("a"), std::string("b")), "   a|b   |\n");
}

TEST(Shown, IsNotMadePrintableTwice) {
  Shown path(std::string_view("two\\parts\xff"));
  EXPECT_EQ(path, "two\\parts\\xff");
  EXPECT_EQ(shown("{}|{:>14}|", path, path), "two\\parts\\xff| two\\parts\\xff|");
  EXPECT_EQ(path + "\n", "two\\parts\\xff\n");
}

TEST(Shown, KeepsLinesWhereTheyAreAskedFor) {
  EXPECT_EQ(Shown::lines("a\tb\n\x1b]0;hi\a\r\nlast"), "a\tb\n\\x1b]0;hi\\x07\nlast");
  EXPECT_EQ(Shown::lines("end\n"), "end\n");
  EXPECT_EQ(Shown::lines(""), "");
}

TEST(ShownDeathTest, WhatIsVouchedForIsLookedAt) {
#ifdef NDEBUG
  GTEST_SKIP() << "assertions are off in this build";
#else
  EXPECT_EQ(Shown::made("\x1b[1;31mred\x1b[0m\n").text(), "\x1b[1;31mred\x1b[0m\n");
  EXPECT_DEATH(Shown::made("\x1b[2J"), "is_harmless");
  EXPECT_DEATH(Shown::made("a\x7f"), "is_harmless");
#endif
}

}  // namespace
}  // namespace operculum

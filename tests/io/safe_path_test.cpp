#include "io/safe_path.h"

#include <gtest/gtest.h>

namespace operculum {
namespace {

std::string here(std::string_view stored) {
  return make_safe(stored, NameRules::here).path;
}
std::string portable(std::string_view stored) {
  return make_safe(stored, NameRules::portable).path;
}

TEST(SafePath, CannotClimbOut) {
  EXPECT_EQ(here("../../etc/passwd"), "etc/passwd");
  EXPECT_EQ(here("a/../../b"), "a/b");
  EXPECT_EQ(here("a/./b//c"), "a/b/c");
  EXPECT_EQ(here(".."), "");
  EXPECT_EQ(here(""), "");
  EXPECT_EQ(make_safe("../x", NameRules::here).change, "\"..\" left out");
}

TEST(SafePath, IsNeverAbsolute) {
  EXPECT_EQ(here("/etc/passwd"), "etc/passwd");
  EXPECT_EQ(here("//server/share"), "server/share");
  EXPECT_EQ(here("C:/pool/crab.png"), "pool/crab.png");
  EXPECT_EQ(here("C:\\pool"), "pool");
  EXPECT_EQ(here("c:notes"), "c:notes") << "a colon is a plain character here";
}

TEST(SafePath, ReplacesWhatSteersATerminal) {
  EXPECT_EQ(here("crab\x1b[2J.png"), "crab_[2J.png");
  EXPECT_EQ(here("a\nb"), "a_b");
  EXPECT_EQ(here(std::string_view("a\0b", 3)), "a_b");
  EXPECT_EQ(here("\xe2\x80\xaegnp.exe"), "_gnp.exe");
  EXPECT_EQ(make_safe("a\nb", NameRules::here).change, "control characters replaced");
}

TEST(SafePath, KeepsWhatIsHarmlessHere) {
  EXPECT_EQ(here("system\\x2dtide.slice"), "system\\x2dtide.slice")
      << "a backslash is a plain character here";
  EXPECT_EQ(here("caf\xe9"), "caf\xe9");
  EXPECT_EQ(here("aux/con.txt"), "aux/con.txt");
  EXPECT_EQ(make_safe("Muschelbänke", NameRules::here).change, "");
}

TEST(SafePath, ShortensPartsThatNoFileSystemTakes) {
  std::string path = here(std::string(300, 'x') + ".png");
  EXPECT_LE(path.size(), 255u);
  EXPECT_TRUE(path.ends_with(".png"));
  EXPECT_NE(here(std::string(300, 'x') + "1.png"), here(std::string(300, 'x') + "2.png"));
  std::string long_umlauts;
  for (int i = 0; i < 200; ++i) long_umlauts += "ä";
  EXPECT_LE(here(long_umlauts).size(), 255u);
  std::string deep;
  for (int i = 0; i < 2000; ++i) deep += "abc/";
  EXPECT_EQ(here(deep), "");
}

TEST(SafePath, ForOtherSystemsChangesTheirReservedNames) {
  EXPECT_EQ(portable("con"), "_con");
  EXPECT_EQ(portable("AUX.txt"), "_AUX.txt");
  EXPECT_EQ(portable("tide. "), "tide_");
  EXPECT_EQ(portable("what?.png"), "what_.png");
  EXPECT_EQ(portable("a\\b"), "a_b");
  EXPECT_TRUE(is_portable("pool/crab.png"));
  EXPECT_FALSE(is_portable("pool/nul"));
  EXPECT_FALSE(is_portable("pool./x"));
}

TEST(Numbered, StandsInFrontOfTheEnding) {
  EXPECT_EQ(numbered("a/crab.png", 2), "a/crab~2.png");
  EXPECT_EQ(numbered("a.b/crab", 3), "a.b/crab~3");
  EXPECT_EQ(numbered(".hidden", 2), ".hidden~2");
}

}  // namespace
}  // namespace operculum

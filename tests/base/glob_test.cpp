#include <gtest/gtest.h>

#include <algorithm>
#include <random>

#include "base/glob_set.h"

namespace operculum {
namespace {

bool fits(const char* pattern, const char* path) {
  return Glob(pattern).matches(path);
}

TEST(Glob, WithoutSlashLooksAtTheNameAtAnyDepth) {
  EXPECT_TRUE(fits("*.png", "crab.png"));
  EXPECT_TRUE(fits("*.png", "textures/reef/crab.png"));
  EXPECT_FALSE(fits("*.png", "crab.png.txt"));
}

TEST(Glob, StarStaysInAFolderAndTwoStarsCross) {
  EXPECT_TRUE(fits("textures/*.png", "textures/crab.png"));
  EXPECT_FALSE(fits("textures/*.png", "textures/reef/crab.png"));
  EXPECT_TRUE(fits("textures/**.png", "textures/reef/crab.png"));
  EXPECT_TRUE(fits("**/crab.png", "crab.png")) << "no folder at all is fine, too";
  EXPECT_TRUE(fits("**/crab.png", "a/b/crab.png"));
  EXPECT_TRUE(fits("a/**/z", "a/z"));
  EXPECT_TRUE(fits("a/**/z", "a/b/c/z"));
  EXPECT_FALSE(fits("a/**/z", "ab/z"));
}

TEST(Glob, OfAFolderMeansAllBeneathIt) {
  EXPECT_TRUE(fits("textures", "textures/reef/crab.png"));
  EXPECT_TRUE(fits("textures/", "textures/crab.png"));
  EXPECT_TRUE(fits("./a/b", "a/b/c"));
  EXPECT_FALSE(fits("textures", "textures2/crab.png"));
}

TEST(Glob, KnowsSetsQuestionMarksAndEscapes) {
  EXPECT_TRUE(fits("crab[0-9].pn?", "crab7.png"));
  EXPECT_FALSE(fits("crab[!0-9].png", "crab7.png"));
  EXPECT_TRUE(fits("a[]]b", "a]b"));
  EXPECT_TRUE(fits("a[b", "a[b")) << "a set without its end is plain text";
  EXPECT_TRUE(fits("what\\?", "what?"));
  EXPECT_FALSE(fits("what\\?", "whatx"));
}

TEST(Glob, MayIgnoreCase) {
  EXPECT_FALSE(fits("*.PNG", "crab.png"));
  EXPECT_TRUE(Glob("*.PNG", Glob::Case::ignored).matches("Reef/Crab.png"));
}

TEST(Glob, WithManyStarsComesToAnEnd) {
  EXPECT_FALSE(
      fits("*a*a*a*a*a*a*a*a*a*b", "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"));
}

TEST(Glob, WithManyFoldersOfAnyDepthComesToAnEnd) {
  std::string path;
  for (int i = 0; i < 3000; ++i) path += "a/";
  EXPECT_FALSE(Glob("**/a/**/a/**/a/**/a/**/a/**/a/**/a/**/a/**/b").matches(path + "c"));
  EXPECT_TRUE(Glob("**/a/**/a/**/a/**/a/**/a/**/a/**/a/**/a/**/b").matches(path + "b/c"));
}

TEST(Glob, MayBeLong) {
  std::string name(300, 'n');
  EXPECT_TRUE(Glob(name + "*/" + name).matches(name + "m/" + name + "/below"));
  EXPECT_FALSE(Glob(name + "*/" + name).matches(name + "m/" + name + "x"));
}

std::string random_text(std::mt19937& random, std::string_view letters, std::size_t most) {
  std::string text;
  for (std::size_t i = random() % (most + 1); i > 0; --i) text += letters[random() % letters.size()];
  return text;
}

/// Patterns that are compared at once fit what each of them fits by itself.
TEST(GlobSet, FitsWhatItsPatternsFit) {
  std::mt19937 random(19);
  std::size_t fits = 0;
  for (int round = 0; round < 300; ++round) {
    auto letters = round % 2 == 0 ? Glob::Case::exact : Glob::Case::ignored;
    GlobSet set;
    for (std::size_t i = 1 + random() % 12; i > 0; --i)
      set.add(Glob(random_text(random, "aabB/**?[a]!-", 9), letters));
    for (int path_number = 0; path_number < 100; ++path_number) {
      std::string path = random_text(random, "aabB//c", 12);
      std::vector<bool> fitted(set.patterns().size()), expected;
      for (const Glob& one : set.patterns()) expected.push_back(one.matches(path));
      bool any = std::find(expected.begin(), expected.end(), true) != expected.end();
      ASSERT_EQ(set.matches(path), any) << path;
      ASSERT_EQ(set.matches(path, &fitted), any) << path;
      ASSERT_EQ(fitted, expected) << path;
      fits += any ? 1 : 0;
    }
  }
  EXPECT_GT(fits, 1'000u);
}

/// So many different ways through the patterns that older ones are forgotten.
TEST(GlobSet, ForgetsStatesThatBecomeMany) {
  GlobSet set;
  for (int i = 0; i < 60; ++i)
    set.add(Glob("*" + std::to_string(i * 7919 % 100'000) + "*x*" + std::to_string(i) + "*"));
  std::mt19937 random(23);
  for (int i = 0; i < 3'000; ++i) {
    std::string path = random_text(random, "0123456789x", 60);
    bool any = std::any_of(set.patterns().begin(), set.patterns().end(),
                           [&](const Glob& one) { return one.matches(path); });
    ASSERT_EQ(set.matches(path), any) << path;
  }
}

TEST(GlobSet, WithoutPatternsFitsNothing) {
  EXPECT_FALSE(GlobSet().matches("a"));
  EXPECT_TRUE(GlobSet().empty());
}

}  // namespace
}  // namespace operculum

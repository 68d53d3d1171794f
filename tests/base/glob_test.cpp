#include "base/glob.h"

#include <gtest/gtest.h>

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

}  // namespace
}  // namespace operculum

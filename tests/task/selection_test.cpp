#include "task/selection.h"

#include <gtest/gtest.h>

namespace operculum {
namespace {

Selection listing(std::initializer_list<std::string> paths) {
  Selection selection;
  selection.listed = std::make_shared<const Selection::Paths>(paths);
  return selection;
}

TEST(Selection, ALineOfAListMeansThatPathAlone) {
  Selection selection = listing({"scripts", "textures/crab.png"});
  EXPECT_TRUE(selection.wants("scripts"));
  EXPECT_FALSE(selection.wants("scripts/tide.lua")) << "what lies in a folder has lines of its own";
  EXPECT_TRUE(selection.wants("textures/crab.png"));
  EXPECT_FALSE(selection.wants("textures"));
}

TEST(Selection, TellsWhatFittedNothing) {
  Selection selection = listing({"b", "a", "c"});
  selection.match.add(Glob("*.lua"));
  selection.match.add(Glob("*.png"));
  EXPECT_TRUE(selection.wants("scripts/tide.lua"));
  EXPECT_TRUE(selection.wants("b"));
  EXPECT_FALSE(selection.wants("d"));
  EXPECT_EQ(selection.unfitted(), (std::vector<std::string>{"*.png", "a", "c"}));
}

TEST(Selection, EveryPatternThatFitsCountsAlsoWhenAnotherFitsTheSame) {
  Selection selection;
  selection.match.add(Glob("*"));
  selection.match.add(Glob("*.lua"));
  EXPECT_TRUE(selection.wants("tide.lua"));
  EXPECT_TRUE(selection.unfitted().empty());
}

TEST(Selection, AllTargetsOfACommandCountTogether) {
  Selection first;
  first.match.add(Glob("*.lua"));
  first.match.add(Glob("*.png"));
  Selection second = first;
  EXPECT_TRUE(first.wants("tide.lua"));
  EXPECT_TRUE(second.wants("crab.png"));
  EXPECT_TRUE(first.unfitted().empty());
}

}  // namespace
}  // namespace operculum

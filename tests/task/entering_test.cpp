#include "task/entering.h"

#include <gtest/gtest.h>

#include "container/format.h"

namespace operculum::test {
namespace {

TEST(Entering, GoesByNameAsFarAsTheRuleSays) {
  OpenContext context;
  auto rules = [&](const char* name, std::uint64_t size = 1000) {
    std::string out;
    for (Enter rule : {Enter::none, Enter::named, Enter::likely, Enter::all})
      out += may_be_container(name, size, rule, context) ? '1' : '0';
    return out;
  };
  EXPECT_EQ(rules("a.zip"), "0111");
  EXPECT_EQ(rules("a.TAR.GZ"), "0111");
  EXPECT_EQ(rules("notes.txt.gz"), "0011");
  EXPECT_EQ(rules("tidepool.skin"), "0011");
  EXPECT_EQ(rules("no-ending"), "0011");
  EXPECT_EQ(rules("crab.PNG"), "0001");
  EXPECT_EQ(rules("tide.lua"), "0001");
  EXPECT_EQ(rules("a.skin", 4), "0001");  // nothing is that small
}

}  // namespace
}  // namespace operculum::test

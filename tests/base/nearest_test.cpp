#include "base/nearest.h"

#include <gtest/gtest.h>

#include <vector>

namespace operculum {
namespace {

TEST(Nearest, IsAFewLettersOffAtMost) {
  std::vector<std::string_view> words = {"--tree", "--deep", "--summary", "identify"};
  EXPECT_EQ(nearest("--tere", words), "--tree");
  EXPECT_EQ(nearest("--sumary", words), "--summary");
  EXPECT_EQ(nearest("identfy", words), "identify");
  EXPECT_EQ(nearest("ide", words), "identify") << "a beginning is enough";
  EXPECT_EQ(nearest("unpack", words), "");
}

}  // namespace
}  // namespace operculum

#include "report/fact_text.h"

#include <gtest/gtest.h>

namespace operculum {
namespace {

TEST(FactText, IsEscapedAndNeverLong) {
  EXPECT_EQ(fact_text("high\x1b[2J water"), "high\\x1b[2J water");
  EXPECT_EQ(fact_text(std::string(1000, 'a')), std::string(1000, 'a'));
  EXPECT_EQ(fact_text(std::string(2'000'000, 'a')), std::string(1000, 'a') + "... (2,000,000 bytes)");
}

}  // namespace
}  // namespace operculum

// What is said of damage, sentence by sentence: tests/fixtures/refusals.txt names a sample, bytes that are
// put into it at one or more places, and a sentence that must be told then. refusal_search_test.cpp looks for
// others.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "format/refusal_list.h"

namespace operculum {
namespace {

using namespace test;

TEST(Refusals, AreToldAsTheyAreListed) {
  std::vector<RefusalRow> all = refusal_rows();
  ASSERT_GT(all.size(), 100u);
  for (const RefusalRow& row : all) {
    std::set<std::string> told = told_of_damage(row.sample, row.changes);
    EXPECT_TRUE(told.contains(row.sentence))
        << row.sample << " with" << written(row.changes) << ": expected\n  " << row.sentence << "\nfound\n  "
        << fmt::format("{}", fmt::join(told, "\n  "));
  }
}

}  // namespace
}  // namespace operculum

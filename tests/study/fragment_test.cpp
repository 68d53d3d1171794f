#include "study/fragment.h"

#include <gtest/gtest.h>

namespace operculum::study {
namespace {

Hypothesis with_names(std::size_t stride, std::initializer_list<std::pair<std::size_t, std::size_t>> names) {
  Hypothesis found;
  found.grid.shape.before = stride;
  for (auto [at, width] : names) found.columns.push_back({Role::name, at, {}, width});
  return found;
}

TEST(StudyFragment, NamesAtEvenDistancesAreOfSeveralRecords) {
  EXPECT_TRUE(holds_several(with_names(48, {{8, 8}, {24, 8}, {40, 8}})));
  EXPECT_TRUE(holds_several(with_names(64, {{0, 20}, {32, 20}})));
  EXPECT_TRUE(holds_several(with_names(48, {{12, 8}, {28, 8}}))) << "the third is cut";
  EXPECT_FALSE(holds_several(with_names(48, {{8, 8}, {24, 8}}))) << "one of three is missing";
  EXPECT_FALSE(holds_several(with_names(48, {{8, 8}, {32, 12}}))) << "they differ";
  EXPECT_FALSE(holds_several(with_names(48, {{8, 8}})));
  EXPECT_FALSE(holds_several(with_names(48, {})));
}

}  // namespace
}  // namespace operculum::study

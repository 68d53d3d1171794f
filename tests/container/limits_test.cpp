#include "container/limits.h"

#include <gtest/gtest.h>

#include "support/refusal.h"

namespace operculum {
namespace {

TEST(Limits, EntriesOfAllContainersCountTogetherAgainstWhatTheFileTakes) {
  Limits limits;
  Limits copy = limits;
  limits.begin(1 << 20, 10);
  for (std::uint64_t i = 0; i < Limits::kFreeEntries; ++i) limits.count_entry();
  for (int i = 0; i < 10; ++i) copy.count_entry();
  EXPECT_REFUSAL(copy.count_entry(), GuardTripped,
                 "more than 100,010 entries in all containers of a file of 10 B, as in files made to be "
                 "endless; if that is right, raise --max-entries")
      << "copies count together";
  limits.begin(1 << 20, 1 << 20);
  EXPECT_NO_THROW(limits.count_entry()) << "another target begins anew";
}

TEST(Limits, AStatedLimitHoldsAsItIs) {
  Limits limits;
  limits.max_entries = 200'000;
  limits.begin(10, 10);
  for (int i = 0; i < 200'000; ++i) limits.count_entry();
  try {
    limits.count_entry();
    FAIL() << "more entries than were allowed";
  } catch (const GuardTripped& error) {
    EXPECT_NE(std::string(error.what()).find("raise --max-entries"), std::string::npos) << error.what();
  }
}

TEST(Limits, ListingsKeepNoMoreMemoryThanTheFileCanMean) {
  Limits limits;
  limits.begin(1000, 1000);
  limits.count_retained(Limits::kFreeMemory);
  EXPECT_NO_THROW(limits.count_retained(16 * 1000));
  EXPECT_REFUSAL(
      limits.count_retained(1), GuardTripped,
      "listing a file of 1000 B takes more than 160.0 MiB of memory; if that is right, raise --max-memory");
}

TEST(Limits, WhatIsSpooledIsHeldAgainstWhatIsStored) {
  Limits limits;
  limits.begin(std::uint64_t{1} << 60, 1000);
  limits.count_spooled(Meter::kRatioFloor);
  EXPECT_REFUSAL(limits.count_spooled(Meter::kRatioFloor), GuardTripped,
                 "inner containers of 512.0 MiB came out of 1000 B, more than 2000 to 1, as files made to "
                 "fill a disk do; if that is right, raise --max-ratio")
      << "a claimed size is worth nothing";
}

}  // namespace
}  // namespace operculum

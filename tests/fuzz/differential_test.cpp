#include <gtest/gtest.h>

#include <cstdlib>

#include "support/system_tools.h"

namespace operculum {
namespace {

using namespace test;

/// Some of the archives that fuzz/differential.py makes; more by hand.
TEST(Differential, AgreesWithPythonOnWholeAndDamagedArchives) {
  if (!on_path("python3")) GTEST_SKIP() << "python3 is not here";
  std::string command =
      std::string("python3 " OPERCULUM_SOURCE "/fuzz/differential.py ") + std::getenv("OPERCULUM") + " 60";
  EXPECT_EQ(std::system(command.c_str()), 0);
}

}  // namespace
}  // namespace operculum

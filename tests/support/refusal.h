#pragma once

#include <gtest/gtest.h>

#include <exception>
#include <string>

#include "support/has.h"

namespace operculum::test {

/// What a call says that fails with a `Kind` of error; where it does not fail, or with something else, that.
template <typename Kind, typename Call>
std::string refusal(Call call) {
  try {
    call();
  } catch (const Kind& error) {
    return error.what();
  } catch (const std::exception& error) {
    return std::string("another error: ") + error.what();
  }
  return "no error";
}

/// For EXPECT_REFUSAL.
inline testing::AssertionResult is_refused(const std::string& told, const std::string& sentence) {
  if (has(told, sentence)) return testing::AssertionSuccess();
  return testing::AssertionFailure() << "expected the refusal\n  " << sentence << "\nfound\n  " << told;
}

}  // namespace operculum::test

/// The statement fails with this kind of error, which says this sentence.
#define EXPECT_REFUSAL(statement, Kind, sentence) \
  EXPECT_TRUE(operculum::test::is_refused(operculum::test::refusal<Kind>([&] { statement; }), sentence))

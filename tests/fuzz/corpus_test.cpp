// What the fuzzer found worth keeping, given to the same targets again: every input that once reached
// something new, and those that once crashed.
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <set>

#include "fuzz/target.h"
#include "support/temp_folder.h"

namespace operculum::test {
namespace {

namespace fs = std::filesystem;

const fs::path kCorpus = fs::path(OPERCULUM_SOURCE) / "fuzz/corpus";

std::vector<fuzz::Target> all() {
  return fuzz::targets();
}

class Corpus : public ::testing::TestWithParam<fuzz::Target> {};

TEST_P(Corpus, IsLookedAtWithoutAFault) {
  std::error_code none;
  std::size_t looked_at = 0;
  for (const auto& input : fs::directory_iterator(kCorpus / GetParam().name, none)) {
    SCOPED_TRACE(input.path().filename().string());
    std::string text = test::read_file(input.path());
    Bytes bytes(text.begin(), text.end());
    EXPECT_LE(bytes.size(), 4096u) << "corpora are kept small";
    EXPECT_NO_THROW(GetParam().look(bytes));
    ++looked_at;
  }
  EXPECT_GT(looked_at, 0u) << "no corpus for this target: scripts/fuzz.sh --campaign makes one";
}

INSTANTIATE_TEST_SUITE_P(Targets, Corpus, ::testing::ValuesIn(all()), [](const auto& one) {
  std::string name = one.param.name;
  std::replace(name.begin(), name.end(), '-', '_');
  return name;
});

TEST(CorpusFolder, HoldsNothingWithoutATarget) {
  std::set<std::string> names;
  for (const fuzz::Target& target : all()) names.insert(target.name);
  for (const auto& folder : fs::directory_iterator(kCorpus))
    EXPECT_TRUE(names.contains(folder.path().filename().string())) << folder.path();
}

}  // namespace
}  // namespace operculum::test

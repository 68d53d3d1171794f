#include "task/finding_fold.h"

#include <gtest/gtest.h>

namespace operculum {
namespace {

using Level = Finding::Level;

std::string folded(const std::vector<Finding>& findings) {
  std::string out;
  for (const FoldedFinding& one : fold(findings)) out += to_text(one) + "\n";
  return out;
}

TEST(FindingFold, PutsTogetherWhatDiffersInPlaceAndNumbers) {
  std::vector<Finding> findings;
  for (int i = 0; i < 5; ++i)
    findings.push_back(
        {Level::fault, "e" + std::to_string(i) + ": offset " + std::to_string(i * 7) + " lies outside"});
  findings.push_back({Level::fault, "crab.png: crc32 differs"});
  EXPECT_EQ(folded(findings),
            "5 times: offset 0 lies outside (e0, e1, e2 and 2 more)\ncrab.png: crc32 differs\n");
}

TEST(FindingFold, KeepsApartWhatIsNotTheSame) {
  EXPECT_EQ(folded({{Level::fault, "a: gone"},
                    {Level::warning, "b: gone"},
                    {Level::fault, "volume 1 is missing"},
                    {Level::fault, "volume 2 is missing"}}),
            "a: gone\nb: gone\nvolume 1 is missing\nvolume 2 is missing\n");
  EXPECT_EQ(folded({{Level::fault, "a: gone"}, {Level::fault, "b: gone"}}), "2 times: gone (a, b)\n");
}

struct Full final : Container {
  std::span<const Entry> entries() override { return {}; }
  ContentPtr content(std::size_t) override { return nullptr; }
};

TEST(Findings, BeyondTheMostThatAreKeptAreCounted) {
  Full container;
  for (std::size_t i = 0; i < Container::kMaxFindings + 30; ++i)
    container.add_finding(Level::fault, "fault " + std::to_string(i));
  container.add_finding(Level::fault, "fault 3");  // known
  auto all = container.findings();
  ASSERT_EQ(all.size(), Container::kMaxFindings + 1);
  EXPECT_EQ(all.back().text, "30 more things were found that are not told here");
}

}  // namespace
}  // namespace operculum

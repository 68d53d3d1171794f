// Records with two texts that end with a zero: a name, and another that may be empty.
#include <gtest/gtest.h>

#include "support/byte_writer.h"
#include "support/sample_tree.h"
#include "support/studied.h"

namespace operculum::study {
namespace {

using namespace test;

enum class OtherStands { in_front, at_end };

struct Labelled {
  std::string label;
  File file;
};

/// Files that lie in folders; every third one in none.
std::vector<Labelled> in_folders(bool same_names) {
  constexpr std::string_view kLabels[] = {"", "pool", "harbour office"};
  std::vector<Labelled> all;
  for (File& file : exhibits(21)) {
    std::size_t number = all.size();
    if (same_names) file.name = "log" + std::to_string(number / 3) + ".txt";
    all.push_back({std::string(kLabels[number % 3]), std::move(file)});
  }
  return all;
}

/// The data, then the records, then where they begin and how many there are.
Bytes pack(const std::vector<Labelled>& all, OtherStands stands) {
  ByteWriter data, index;
  data.text("BAYL").u32(1);
  for (const Labelled& one : all) {
    if (stands == OtherStands::in_front) index.u16(7).text(one.label).u8(0);
    index.text(one.file.name).u8(0);
    index.u32(static_cast<std::uint32_t>(data.size())).u32(static_cast<std::uint32_t>(one.file.data.size()));
    if (stands == OtherStands::at_end) index.u32(9).text(one.label).u8(0);
    data.bytes(one.file.data);
  }
  auto begin = static_cast<std::uint32_t>(data.size());
  return data.bytes(index.take()).u32(begin).u32(static_cast<std::uint32_t>(all.size())).take();
}

class StudyTwoTexts : public ::testing::TestWithParam<OtherStands> {};

TEST_P(StudyTwoTexts, AreBothRead) {
  std::vector<Labelled> all = in_folders(false);
  Studied found = studied(pack(all, GetParam()));
  std::vector<File> files;
  for (const Labelled& one : all) files.push_back(one.file);
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("other text until 0"), std::string::npos) << found.draft;
}

TEST_P(StudyTwoTexts, AreAPathWhereNamesComeAgain) {
  std::vector<Labelled> all = in_folders(true);
  Studied found = studied(pack(all, GetParam()));
  std::vector<File> files;
  for (const Labelled& one : all)
    files.push_back({one.label.empty() ? one.file.name : one.label + "/" + one.file.name, one.file.data});
  EXPECT_EQ(found.files, files) << found.draft;
}

INSTANTIATE_TEST_SUITE_P(Places, StudyTwoTexts, ::testing::Values(OtherStands::in_front, OtherStands::at_end),
                         [](const auto& one) {
                           return one.param == OtherStands::at_end ? "AtEnd" : "InFront";
                         });

}  // namespace
}  // namespace operculum::study

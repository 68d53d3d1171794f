// The page of a study: sentences, and their evidence as a list.
#include <gtest/gtest.h>

#include "container/open.h"
#include "report/study_text.h"
#include "support/has.h"
#include "support/temp_folder.h"
#include "task/study_file.h"

namespace operculum::test {
namespace {

TEST(StudyPage, ListsWhatSpeaksForTheDraft) {
  TempFolder folder;
  std::string pack = "BAYP", data;
  pack += std::string("\x0c\0\0\0", 4);
  for (std::uint32_t i = 0; i < 12; ++i) {
    std::string name = "n" + std::to_string(i) + "<b>";
    name.resize(16);
    std::uint32_t at = 8 + 12 * 24 + static_cast<std::uint32_t>(data.size()), size = 40 + i * 7;
    for (std::uint32_t number : {at, size})
      for (int shift : {0, 8, 16, 24}) name += static_cast<char>(number >> shift);
    pack += name;
    data += std::string(size, static_cast<char>('a' + i));
  }
  folder.write("store.bay", pack + data);
  OpenContext context;
  StudyReport report = study_files({folder.path("store.bay")}, context);
  ASSERT_TRUE(report.findings.solved());
  std::string page = study_page(report);
  EXPECT_TRUE(has(page, "<ul><li>")) << page.substr(0, 3000);
  EXPECT_TRUE(has(page, "the number of records, 12")) << page.substr(0, 3000);
  EXPECT_FALSE(has(page, "<b>")) << "names from the file are no markup";
}

}  // namespace
}  // namespace operculum::test

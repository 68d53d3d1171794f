#include <gtest/gtest.h>

#include "base/readable_text.h"
#include "report/hex_view.h"
#include "report/records.h"
#include "report/text_table.h"
#include "report/tree_text.h"

namespace operculum {
namespace {

TEST(TextTable, MakesColumnsAsWideAsTheirCells) {
  TextTable table({{"name"}, {"size", TextTable::Align::right}});
  table.add({"bänke", "1,234"});
  table.add({"x", "7"});
  EXPECT_EQ(table.text(), "name    size\nbänke  1,234\nx          7\n");
}

TEST(TextTable, WrapsBetweenWords) {
  EXPECT_EQ(wrapped("high water at noon", 13, 2), "high water\n  at noon");
  EXPECT_EQ(wrapped("unbreakable", 4, 0), "unbreakable");
}

TEST(HexView, ShowsOffsetsAndCharacters) {
  EXPECT_EQ(hex_lines(as_bytes("tide\n"), 0x10).text(),
            "00000010  74 69 64 65 0a" + std::string(36, ' ') + "tide.\n");
}

TEST(ReadableText, DecodesUsualEncodingsAndDisarmsControls) {
  EXPECT_EQ(readable_text(as_bytes("M\xe4rz\n")), "März\n");
  EXPECT_EQ(readable_text(as_bytes(std::string_view("\xff\xfeh\0i\0", 6))), "hi");
  EXPECT_EQ(readable_text(as_bytes("a\x1b[2Jb\tc\r\n")), "a\\x1b[2Jb\tc\n");
  EXPECT_TRUE(looks_like_text(as_bytes("plain words")));
  EXPECT_FALSE(looks_like_text(as_bytes(std::string_view("\x89PNG\r\n\x1a\n\0\0\0\rIHDR", 16))));
}

TEST(Csv, QuotesWhatMustBe) {
  EXPECT_EQ(csv_line({"a", "b,c", "say \"x\"", ""}), "a,\"b,c\",\"say \"\"x\"\"\",\r\n");
}

TEST(Csv, DisarmsCellsThatASpreadsheetWouldRun) {
  EXPECT_EQ(csv_line({"=cmd|calc", "+1", "-1", "@SUM(A1)", "\t=1", "1=2"}),
            "\"'=cmd|calc\",\"'+1\",\"'-1\",\"'@SUM(A1)\",\"'\t=1\",1=2\r\n");
}

TEST(Tree, PutsWhatLiesVeryDeepOnOneLine) {
  std::string path;
  for (int i = 0; i < 5000; ++i) path += "a/";
  std::string text = tree_text({{path + "f", false, ""}}).text();
  EXPECT_LT(text.size(), 100'000u) << "indents of 5,000 levels would take megabytes";
  EXPECT_TRUE(text.ends_with("a/a/f\n")) << text.substr(text.size() - 20);
}

TEST(Tree, FillsInMissingFoldersAndEscapesNames) {
  EXPECT_EQ(tree_text({{"a/b/c.txt", false, "  5 B"}, {"a", true, ""}, {"x\x1b", false, ""}}),
            "├─ a/\n│  └─ b/\n│     └─ c.txt  5 B\n└─ x\\x1b\n");
}

TEST(Json, SurvivesBytesThatAreNoText) {
  EXPECT_EQ(json_line(Finding{Finding::Level::note, "caf\xe9"}),
            "{\"record\":\"note\",\"message\":\"caf\xef\xbf\xbd\"}\n");
}

TEST(Json, HasNothingThatSteersATerminal) {
  EXPECT_EQ(json_line(Finding{Finding::Level::note,
                              "\xe2\x80\xae"
                              "gnp \x7f \xc2\x9b"}),
            "{\"record\":\"note\",\"message\":\"\\u202egnp \\u007f \\u009b\"}\n");
}

}  // namespace
}  // namespace operculum

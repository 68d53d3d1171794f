#include <gtest/gtest.h>

#include <algorithm>

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

std::string drawn(const TreeText& tree) {
  std::string text;
  tree.draw([&](const Shown& line) { text += line.text(); });
  return text;
}

TEST(Tree, PutsWhatLiesVeryDeepOnOneLine) {
  std::string path;
  for (int i = 0; i < 5000; ++i) path += "a/";
  TreeText tree;
  tree.add(path + "f", false, "");
  std::string text = drawn(tree);
  EXPECT_LT(text.size(), 100'000u) << "indents of 5,000 levels would take megabytes";
  EXPECT_TRUE(text.ends_with("a/a/f\n")) << text.substr(text.size() - 20);
}

TEST(Tree, FillsInMissingFoldersAndEscapesNames) {
  TreeText tree;
  EXPECT_TRUE(tree.empty());
  tree.add("a/b/c.txt", false, "  5 B");
  tree.add("a", true, " -> b");
  tree.add("x\x1b", false, "");
  tree.add("a/d.txt", false, "");
  EXPECT_EQ(drawn(tree), "├─ a/ -> b\n│  ├─ b/\n│  │  └─ c.txt  5 B\n│  └─ d.txt\n└─ x\\x1b\n");
}

TEST(Tree, KeepsLittleOfEachEntry) {
  constexpr std::size_t kEntries = 10'000;
  TreeText tree;
  std::size_t kept = 0;
  for (std::size_t i = 0; i < kEntries; ++i)
    kept += tree.add("drawer-" + std::to_string(i / 50) + "/specimen-" + std::to_string(i) + ".txt", false,
                     "  12 B");
  EXPECT_LE(kept / kEntries, 120u) << "bytes an entry";
  EXPECT_EQ(std::ranges::count(drawn(tree), '\n'), static_cast<std::ptrdiff_t>(kEntries + kEntries / 50));
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

// study, as a person calls it.
#include <gtest/gtest.h>

#include "support/chart_store.h"
#include "support/has.h"
#include "support/program.h"
#include "support/random_pack.h"
#include "support/temp_folder.h"

namespace operculum::test {
namespace {

TEST(StudyCommand, DraftsADescriptionThatOpensThePack) {
  TempFolder folder;
  ChartStore store = chart_store(24);
  folder.write("charts.hob", store.bytes);
  folder.write("older.hob", chart_store(19).bytes);
  Ran ran = operculum(
      {"study", "charts.hob", "older.hob", "--draft", "charts.layout", "--page", "study.html", "--explain"},
      folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(has(ran.out, "It seems to hold 14 entries, by a table of records of 40 bytes at offset"))
      << ran.out;
  EXPECT_TRUE(has(ran.out, "What was tried"));
  EXPECT_TRUE(has(folder.read("study.html"), "<svg class=\"map\""));
  EXPECT_EQ(operculum({"layout", "check", "charts.layout"}, folder.path()).exit_code, 0);
  Ran list = operculum({"list", "--paths", "--layout", "charts.layout", "charts.hob"}, folder.path());
  for (const auto& [path, data] : store.files) EXPECT_TRUE(has(list.out, path)) << list.out;
  EXPECT_EQ(operculum({"show", "--layout", "charts.layout", "charts.hob/charts/mole.snd"}, folder.path()).out,
            std::string(as_text(store.files.at("charts/mole.snd"))));
  EXPECT_EQ(operculum({"verify", "--layout", "charts.layout", "older.hob"}, folder.path()).exit_code, 0);
}

TEST(StudyCommand, SaysSoWhenThereIsNothingToDescribe) {
  TempFolder folder;
  folder.write("noise.bin", random_nothing(0));
  Ran ran = operculum({"study", "noise.bin", "--draft", "noise.layout"}, folder.path());
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_TRUE(has(ran.out, "one packed or encrypted run as a whole")) << ran.out;
  EXPECT_TRUE(has(ran.err, "no draft was written"));
  EXPECT_EQ(folder.listing(), "noise.bin");
}

TEST(StudyCommand, IsWhatIdentifySuggestsWhenASearchFindsNothingOrStreamsAlone) {
  TempFolder folder;
  folder.write("charts.hob", chart_store(24).bytes);
  Ran ran = operculum({"identify", "--search", "charts.hob"}, folder.path());
  EXPECT_TRUE(has(ran.out, "offset-00000010.zz  zlib stream")) << ran.out;
  EXPECT_TRUE(has(ran.out, "operculum study charts.hob")) << ran.out;
  folder.write("noise.bin", random_nothing(0));
  ran = operculum({"identify", "--search", "noise.bin"}, folder.path());
  EXPECT_TRUE(has(ran.out, "operculum study noise.bin")) << ran.out;
}

TEST(StudyCommand, WritesItsDrawingsIntoANewFolder) {
  TempFolder folder;
  folder.write("charts.hob", chart_store(24).bytes);
  Ran ran = operculum({"study", "charts.hob", "--figures", "figures"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  std::string map = folder.read("figures/map.svg"), index = folder.read("figures/index.svg");
  for (std::string_view part :
       {"xmlns=\"http://www.w3.org/2000/svg\"", "packed or encrypted</title>", "class=\"curve\""})
    EXPECT_TRUE(has(map, part)) << part;
  EXPECT_TRUE(has(index, "<rect class=\"place\"")) << index.substr(0, 3000);
  EXPECT_TRUE(has(index, ">m</text>")) << "names are shown as letters";
  for (const char* name : {"figures/map.png", "figures/index.png"})
    EXPECT_TRUE(folder.read(name).starts_with("\x89PNG\r\n")) << name;
  EXPECT_TRUE(has(ran.err, "2 figures are in figures, as SVG and PNG")) << ran.err;
  Ran again = operculum({"study", "charts.hob", "--figures", "figures"}, folder.path());
  EXPECT_EQ(again.exit_code, 3);
  EXPECT_TRUE(has(again.err, "cannot make the folder figures: File exists")) << again.err;
  EXPECT_NE(operculum({"study", "missing.hob", "--figures", "none"}, folder.path()).exit_code, 0);
  EXPECT_FALSE(has(folder.listing(), "none")) << "no empty folder stays";
}

TEST(StudyCommand, DrawsWhatItCannotExplain) {
  TempFolder folder;
  folder.write("noise.bin", random_nothing(0));
  Ran ran = operculum({"study", "noise.bin", "--figures", "figures"}, folder.path());
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_TRUE(has(folder.read("figures/map.svg"), "class=\"dense\""));
  EXPECT_EQ(folder.listing().find("index.svg"), std::string::npos) << folder.listing();
}

constexpr std::string_view kNearlyRight = R"(layout "Nearly"
record Head {
  magic bytes "HOBCHART"
  count u32
  index u32
}
record Item {
  name text[24] padded 0
  at u32
  stored u32
  size u32
  last u32
}
head = Head at 0
items = Item[head.count - 2] at head.index
entry for item in items {
  path = item.name
  data = bytes(item.at, item.stored) | when item.stored < item.size: zlib
})";

TEST(StudyCommand, LooksAtWhatADescriptionLeavesOpen) {
  TempFolder folder;
  folder.write("charts.hob", chart_store(24).bytes);
  folder.write("nearly.layout", kNearlyRight);
  Ran ran =
      operculum({"study", "charts.hob", "--layout", "nearly.layout", "--page", "open.html"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(has(ran.out, "charts.hob: 12 entries; 25.8 % of 4,720 bytes are not explained.")) << ran.out;
  EXPECT_TRUE(has(ran.out, "items[].last")) << ran.out;
  EXPECT_TRUE(has(ran.out, "could be seconds since 1970: time = unix(...)")) << ran.out;
  EXPECT_FALSE(has(ran.out, "items[].at ")) << "a role uses it\n" << ran.out;
  EXPECT_TRUE(has(folder.read("open.html"), "Not explained"));
  std::string wrong(kNearlyRight);
  wrong.replace(wrong.find("when item.stored < item.size: "), 30, "");
  folder.write("wrong.layout", wrong);
  Ran failing = operculum({"study", "charts.hob", "--layout", "wrong.layout"}, folder.path());
  EXPECT_EQ(failing.exit_code, 1);
  EXPECT_TRUE(has(failing.out, "2 of 12, the first is charts/ferry.snd: deflate data")) << failing.out;
  Ran records = operculum({"study", "charts.hob", "--layout", "wrong.layout", "--json"}, folder.path());
  EXPECT_TRUE(has(records.out, "{\"record\":\"review\"")) << records.out;
  EXPECT_TRUE(has(records.out, "\"first\":\"charts/ferry.snd\"")) << records.out;
}

TEST(StudyCommand, SaysWhyADescriptionDoesNotFit) {
  TempFolder folder;
  folder.write("noise.bin", random_nothing(0));
  folder.write("nearly.layout", kNearlyRight);
  Ran ran = operculum({"study", "noise.bin", "--layout", "nearly.layout"}, folder.path());
  EXPECT_EQ(ran.exit_code, 3) << ran.out;
  EXPECT_TRUE(has(ran.out, "the description does not fit: nearly.layout line 3")) << ran.out;
  folder.write("broken.layout", "layout \"x");
  Ran broken = operculum({"study", "noise.bin", "--layout", "broken.layout"}, folder.path());
  EXPECT_NE(broken.exit_code, 0);
  EXPECT_TRUE(has(broken.err, "no closing quote")) << broken.err;
}

TEST(StudyCommand, NeverReplacesAFile) {
  TempFolder folder;
  folder.write("charts.hob", chart_store(24).bytes);
  folder.write("charts.layout", "mine");
  Ran ran = operculum({"study", "charts.hob", "--draft", "charts.layout"}, folder.path());
  EXPECT_NE(ran.exit_code, 0);
  EXPECT_EQ(folder.read("charts.layout"), "mine");
}

TEST(StudyCommand, TellsDraftsAsRecords) {
  TempFolder folder;
  folder.write("charts.hob", chart_store(24).bytes);
  Ran ran = operculum({"study", "charts.hob", "--json"}, folder.path());
  EXPECT_TRUE(has(ran.out, "{\"record\":\"study\",\"target\":\"charts.hob\"")) << ran.out.substr(0, 300);
  EXPECT_TRUE(has(ran.out, "\"solved\":true"));
}

}  // namespace
}  // namespace operculum::test

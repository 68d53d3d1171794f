#include <gtest/gtest.h>

#include <filesystem>
#include <sstream>

#include "codec/codec.h"
#include "support/has.h"
#include "support/json.h"
#include "support/packs.h"
#include "support/program.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"

namespace operculum::test {
namespace {

using nlohmann::json;

constexpr const char* kPair = R"(layout "Pair of texts"
suffix .pair
record Head { magic bytes "PAIR"
              size u8
              title text[4] padded 0 }
head = Head at 0
fact title = head.title
fact version = 3
entry { path = "texts/first.txt"
        data = bytes(9, head.size) }
entry { path = "texts/second.txt"
        data = bytes(9 + head.size, end - 9 - head.size) }
)";

struct LayoutCommands : testing::Test {
  TempFolder temp;
  Ran tool(const std::vector<std::string>& arguments) { return operculum(arguments, temp.path()); }
  void SetUp() override {
    temp.write("pair.layout", kPair);
    temp.write("a.pair", ByteWriter().text("PAIR").u8(4).text("reef").text("crablimpet").take());
  }
};

TEST_F(LayoutCommands, CheckTellsProblemsWithTheirPlace) {
  temp.write("bad.layout", "layout \"Bad\"\nhead = Header at 0\nentry { path = \"x\"\ndata = rest(0) }\n");
  Ran ran = tool({"layout", "check", "bad.layout"});
  EXPECT_EQ(ran.exit_code, 3);
  EXPECT_EQ(
      ran.out,
      "bad.layout:2:8: error: there is no record \"Header\"\n  head = Header at 0\n         ^^^^^^^^^^^\n")
      << ran.out;
  json record = json::parse(tool({"layout", "check", "--json", "bad.layout"}).out);
  EXPECT_EQ(record["record"], "error");
  EXPECT_EQ(record["line"], 2);
  EXPECT_EQ(record["column"], 8);
  EXPECT_NE(tool({"layout", "check", "pair.layout"}).out.find("without errors"), std::string::npos);
}

TEST_F(LayoutCommands, CheckShowsEveryFieldAndWhatEachByteIsFor) {
  Ran ran = tool({"layout", "check", "pair.layout", "a.pair", "--ranges"});
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_NE(ran.out.find("   0x4      1  04           head.size   4"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("head.title  \"reef\""), std::string::npos) << ran.out;
  EXPECT_NE(
      ran.out.find("header 47.37 %, index 0.00 %, entry data 52.63 %, padding 0.00 %, unexplained 0.00 %"),
      std::string::npos)
      << ran.out;
  EXPECT_NE(ran.out.find("0x9 to 0x13"), std::string::npos) << ran.out;
  temp.write("cut.pair", "PAIR\x09re");
  Ran cut = tool({"layout", "check", "pair.layout", "cut.pair"});
  EXPECT_EQ(cut.exit_code, 3);
  EXPECT_NE(cut.out.find("head.size"), std::string::npos) << "what was read before is shown";
  EXPECT_NE(cut.err.find("pair.layout line 5"), std::string::npos) << cut.err;
}

TEST_F(LayoutCommands, CheckShowsOnlyTheFieldsThatAreAskedFor) {
  Ran named = tool({"layout", "check", "pair.layout", "a.pair", "--only", "title"});
  EXPECT_NE(named.out.find("head.title"), std::string::npos) << named.out;
  EXPECT_EQ(named.out.find("head.size"), std::string::npos) << named.out;
  Ran within = tool({"layout", "check", "pair.layout", "a.pair", "--only", "head"});
  EXPECT_NE(within.out.find("head.size"), std::string::npos) << within.out;
  for (std::string offset : {"4", "0x4"}) {
    Ran at = tool({"layout", "check", "pair.layout", "a.pair", "--at", offset});
    EXPECT_NE(at.out.find("head.size"), std::string::npos) << at.out;
    EXPECT_EQ(at.out.find("head.title"), std::string::npos) << at.out;
  }
  Ran wrong = tool({"layout", "check", "pair.layout", "a.pair", "--at", "four"});
  EXPECT_NE(wrong.exit_code, 0);
  EXPECT_NE(wrong.err.find("\"four\" is no offset; write 1024 or 0x400"), std::string::npos) << wrong.err;
}

constexpr const char* kWorkedOut = R"(layout "Worked out"
suffix .out
record Item { packed bits u16 { low: 4, high: 12 }; let twice = high * 2; name text[2] }
record Head { magic bytes "WORK"; count u8 }
head = Head at 0
start = 5 + head.count * 0
items = Item[head.count] at start
entry for i in items { path = i.name; data = bytes(i.twice, i.low); check crc32 of data = 0x3bb935c6 }
)";

TEST_F(LayoutCommands, CheckTellsWhatIsWorkedOut) {
  temp.write("out.layout", kWorkedOut);
  // low 2, high 2: two bytes at 4; the second item's name is cut off
  temp.write("a.out", ByteWriter().text("WORK").u8(2).u16(0x22).text("aa").u16(0x21).text("bb").take());
  Ran ran = tool({"layout", "check", "out.layout", "a.out"});
  EXPECT_TRUE(has(ran.out, "items[0].low     2")) << ran.out;
  EXPECT_TRUE(has(ran.out, "items[0].twice   4")) << ran.out;
  EXPECT_TRUE(has(ran.out, "start            5")) << ran.out;
  std::istringstream lines(tool({"layout", "check", "--json", "out.layout", "a.out", "--only", "twice"}).out);
  std::string first;
  std::getline(lines, first);
  json twice = json::parse(first);
  EXPECT_EQ(twice["name"], "items[0].twice");
  EXPECT_FALSE(twice.contains("offset")) << "it lies nowhere";
}

TEST_F(LayoutCommands, CheckEndsWithTheFieldThatCannotBeRead) {
  temp.write("out.layout",
             "layout \"Out\"\nrecord Head { a u8; b u8 in 1..3; c u32 }\nhead = Head at 0\nentry { path = "
             "\"a\"; data = rest(0) }\n");
  temp.write("a.out", ByteWriter().u8(1).u8(2).u16(3).take());
  Ran cut = tool({"layout", "check", "out.layout", "a.out"});
  EXPECT_EQ(cut.exit_code, 3);
  EXPECT_TRUE(has(cut.out, "0x2      0  03 00  head.c  cannot be read: out.layout line 2")) << cut.out;
  temp.write("b.out", ByteWriter().u8(1).u8(9).u32(3).take());
  EXPECT_TRUE(has(tool({"layout", "check", "out.layout", "b.out"}).out,
                  "head.b  cannot be read: out.layout line 2: expected 1 to 3"))
      << tool({"layout", "check", "out.layout", "b.out"}).out;
}

TEST_F(LayoutCommands, CheckShowsOneEntryWithItsRoles) {
  Ran ran = tool({"layout", "check", "pair.layout", "a.pair", "--entry", "texts/second.txt"});
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(has(ran.out, "path   \"texts/second.txt\"")) << ran.out;
  EXPECT_TRUE(has(ran.out, "data   6 bytes at 0xd")) << ran.out;
  EXPECT_FALSE(has(ran.out, "unexplained")) << "one entry explains no file";
  temp.write("out.layout", kWorkedOut);
  temp.write("a.out", ByteWriter().text("WORK").u8(2).u16(0x22).text("aa").u16(0x21).text("bb").take());
  Ran by_number = tool({"layout", "check", "out.layout", "a.out", "--entry", "1"});
  EXPECT_TRUE(has(by_number.out, "Item[1].packed  33 (0x21)")) << by_number.out;
  EXPECT_TRUE(has(by_number.out, "path            \"bb\"")) << by_number.out;
  Ran none = tool({"layout", "check", "out.layout", "a.out", "--entry", "7"});
  EXPECT_TRUE(
      has(none.err, "there is no entry \"7\"; give a path as list prints it, or a number from 0 to 1"))
      << none.err;
}

TEST_F(LayoutCommands, CheckCanGoInTheOrderOfTheFile) {
  temp.write("out.layout",
             "layout \"Out\"\nlast = u8 at 3\nfirst = u8 at 0\nentry { path = \"a\"; data = rest(0) }\n");
  temp.write("a.out", "abcd");
  std::string read = tool({"layout", "check", "out.layout", "a.out"}).out;
  std::string lies = tool({"layout", "check", "out.layout", "a.out", "--file-order"}).out;
  EXPECT_LT(read.find("0x3"), read.find("0x0")) << read;
  EXPECT_LT(lies.find("0x0"), lies.find("0x3")) << lies;
}

TEST_F(LayoutCommands, CheckComparesTheFirstChecksumsAndFoldsEqualFaults) {
  temp.write("out.layout",
             "layout \"Out\"\nentry for i in range(0, 12) { path = \"e{i}\"; data = bytes(0, 4); crc32 = if "
             "i < 3 then 0xed82cd11 else i }\n");
  temp.write("a.out", "abcd");
  Ran ran = tool({"layout", "check", "out.layout", "a.out"});
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_TRUE(has(ran.out, "the checksums of the first 3 entries that have one are right")) << ran.out;
  EXPECT_TRUE(has(ran.out, "fault: 5 times: ")) << ran.out;
  EXPECT_TRUE(has(ran.out, "(e3, e4, e5 and 2 more)")) << ran.out;
}

TEST_F(LayoutCommands, CheckTellsOfRegionsThatCoverNothing) {
  temp.write("out.layout",
             "layout \"Out\"\nregion ghost = raw(\"x\")\nregion front = bytes(0, 2)\nentry { path = \"a\"; "
             "data = rest(2) }\n");
  temp.write("a.out", "abcd");
  Ran ran = tool({"layout", "check", "out.layout", "a.out"});
  EXPECT_TRUE(has(ran.out, "the region \"ghost\" covers no byte of a file")) << ran.out;
  EXPECT_FALSE(has(ran.out, "\"front\"")) << ran.out;
}

TEST_F(LayoutCommands, CheckFollowsFilesBesideTheContainer) {
  temp.write("out.layout",
             "layout \"Out\"\nsize = u8 at 0\ndefine body(): bytes = file(\"a.dat\")\nentry { path = \"a\"; "
             "data = part(body(), 1, size) }\n");
  temp.write("a.out", "\x03");
  temp.write("a.dat", "_abcxyz");
  Ran ran = tool({"layout", "check", "out.layout", "a.out"});
  EXPECT_TRUE(has(ran.out,
                  "a.dat (7 bytes): header 0.00 %, index 0.00 %, entry data 42.86 %, padding 0.00 %, "
                  "unexplained 57.14 %"))
      << ran.out;
  EXPECT_TRUE(has(tool({"layout", "check", "--json", "out.layout", "a.out"}).out, "\"record\":\"file\""))
      << "as JSON, too";
}

TEST_F(LayoutCommands, CheckTellsByWhatFilesAreRecognised) {
  EXPECT_TRUE(
      has(tool({"layout", "check", "pair.layout"}).out, "files are recognised by 4 constant bytes\n"));
  temp.write("weak.layout",
             "layout \"Weak\"\nsuffix .weak\ntail = u8 at end - 1\nentry { path = \"a\"; data = rest(0) }\n");
  std::string weak = tool({"layout", "check", "weak.layout"}).out;
  EXPECT_TRUE(has(weak, "files are recognised by 0 constant bytes and their names (.weak)")) << weak;
  EXPECT_TRUE(has(weak, "a file that is cut short cannot be opened")) << weak;
  temp.write("none.layout", "layout \"None\"\nentry { path = \"a\"; data = rest(0) }\n");
  EXPECT_TRUE(has(tool({"layout", "check", "none.layout"}).out, "only with --layout"));
}

TEST_F(LayoutCommands, EveryCommandSaysWhyANamedDescriptionDoesNotFit) {
  temp.write("a.tar", TarBuilder().file("crab.txt", "pinch").build());
  for (const char* command : {"list", "verify", "identify"}) {
    Ran ran = tool({command, "--layout", "pair.layout", "a.tar"});
    EXPECT_TRUE(has(ran.out + ran.err, "the description pair does not fit: at offset 0 expected 50 41 49 52"))
        << command << ran.out << ran.err;
  }
  EXPECT_FALSE(has(tool({"list", "a.tar"}).err, "does not fit"));
}

TEST_F(LayoutCommands, CheckDrawsWhatEachByteIsFor) {
  Ran ran = tool({"layout", "check", "pair.layout", "a.pair", "--page", "pair.html", "--figures", "drawn"});
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  std::string page = temp.read("pair.html");
  for (std::string_view part :
       {"<svg class=\"map\"", "47.37 %", "head.title", "&quot;reef&quot;", "class=\"header\""})
    EXPECT_NE(page.find(part), std::string::npos) << part << "\n" << page;
  EXPECT_EQ(page.find("Not explained"), std::string::npos);
  EXPECT_NE(temp.read("drawn/map.svg").find("<rect class=\"data\""), std::string::npos);
  temp.write("short.layout",
             "layout \"Short\"\nrecord Head { magic bytes \"PAIR\" }\nhead = Head at 0\n"
             "entry { path = \"a\"\n data = bytes(4, 1) }\n");
  tool({"layout", "check", "short.layout", "a.pair", "--page", "short.html"});
  EXPECT_NE(temp.read("short.html").find("Not explained"), std::string::npos) << temp.read("short.html");
}

TEST_F(LayoutCommands, CheckTellsWhatCanBeWrittenBack) {
  std::string out =
      operculum({"layout", "check", "--roles", std::string(OPERCULUM_SOURCE) + "/layouts/shoal.layout"},
                temp.path())
          .out;
  EXPECT_NE(out.find("path   Item.name             yes"), std::string::npos) << out;
  EXPECT_NE(out.find("data   Item.at, Item.stored  yes"), std::string::npos) << out;
  out = operculum({"layout", "check", "--roles", std::string(OPERCULUM_SOURCE) + "/layouts/eel.layout"},
                  temp.path())
            .out;
  EXPECT_NE(out.find("by trial: it is computed"), std::string::npos) << out;
}

TEST_F(LayoutCommands, EveryCommandKnowsADescribedFormat) {
  EXPECT_NE(tool({"identify", "a.pair"}).out.find("no container that this program knows"), std::string::npos);
  EXPECT_NE(tool({"identify", "--layout", "pair.layout", "a.pair"}).out.find("is        Pair of texts"),
            std::string::npos);
  temp.write(".config/operculum/layouts/pair.layout", kPair);
  std::string found = tool({"identify", "a.pair"}).out;
  EXPECT_NE(found.find("is        Pair of texts"), std::string::npos) << found;
  EXPECT_NE(found.find("title     reef"), std::string::npos) << found;
  EXPECT_EQ(tool({"list", "--paths", "a.pair"}).out, "texts/first.txt\ntexts/second.txt\n");
  EXPECT_EQ(tool({"show", "a.pair/texts/second.txt"}).out, "limpet");
  EXPECT_EQ(tool({"verify", "a.pair"}).exit_code, 0);
  EXPECT_EQ(tool({"unpack", "a.pair", "--into", "out"}).exit_code, 0);
  EXPECT_EQ(temp.read("out/texts/first.txt"), "crab");
  temp.write("b.skin", "PAIRxxxx");
  temp.write("renamed.zip", temp.read("a.pair"));
  EXPECT_NE(tool({"identify", "renamed.zip"}).out.find("is        Pair of texts"), std::string::npos)
      << "content decides";
}

TEST_F(LayoutCommands, DescribedPacksNest) {
  temp.write(".config/operculum/layouts/pair.layout", kPair);
  Bytes pair = to_bytes(temp.read("a.pair"));
  temp.write("card.tar.gz", encode("gzip", TarBuilder().add({.name = "opt/a.pair", .data = pair}).build()));
  EXPECT_EQ(tool({"show", "card.tar.gz/opt/a.pair/texts/first.txt"}).out, "crab");
  EXPECT_EQ(tool({"list", "--paths", "--deep", "card.tar.gz"}).out,
            "opt/a.pair/texts/first.txt\nopt/a.pair/texts/second.txt\n");
}

TEST_F(LayoutCommands, ListAndShowTellWhereDescriptionsAre) {
  temp.write(".config/operculum/layouts/pair.layout", kPair);
  Ran ran = tool({"layout", "list"});
  EXPECT_NE(ran.out.find("Pair of texts"), std::string::npos);
  EXPECT_NE(ran.out.find("Tidepool shoal"), std::string::npos) << "those that come with the program";
  EXPECT_EQ(tool({"layout", "show", "pair"}).out, kPair);
  EXPECT_EQ(tool({"layout", "show", "none"}).exit_code, 3);
  EXPECT_NE(tool({"layout", "list", "--json"}).out.find("\"title\":\"Pair of texts\""), std::string::npos);
}

TEST_F(LayoutCommands, ABrokenDescriptionIsToldAndCostsNoOther) {
  temp.write(".config/operculum/layouts/broken.layout", "layout \"Broken\"\nnonsense\n");
  temp.write(".config/operculum/layouts/pair.layout", kPair);
  Ran list = tool({"list", "--paths", "a.pair"});
  EXPECT_EQ(list.out, "texts/first.txt\ntexts/second.txt\n");
  EXPECT_EQ(list.err,
            "operculum: warning: the description broken has errors and is not used; `operculum layout check "
            "broken` shows them\n");
  EXPECT_TRUE(has(tool({"layout", "check", "broken"}).out, "\"nonsense\" begins no statement"))
      << "by its name";
  EXPECT_NE(tool({"layout", "list"}).out.find("has errors"), std::string::npos);
  Ran ran = tool({"list", "--layout", ".config/operculum/layouts/broken.layout", "a.pair"});
  EXPECT_EQ(ran.exit_code, 3);
  EXPECT_NE(ran.err.find("line 2, column 1"), std::string::npos) << ran.err;
}

TEST_F(LayoutCommands, DescriptionsThatAreFoundCanBeNamed) {
  temp.write(".config/operculum/layouts/pair.layout", kPair);
  std::filesystem::remove(temp.path("pair.layout"));
  EXPECT_TRUE(has(tool({"layout", "check", "pair", "a.pair"}).out, "2 entries"));
  EXPECT_TRUE(has(tool({"list", "--layout", "pair", "a.pair"}).out, "texts/second.txt"));
  EXPECT_TRUE(has(tool({"layout", "check", "pear"}).err, "pear: cannot open the file"));
}

TEST_F(LayoutCommands, EveryRoleMayBeNothing) {
  temp.write("n.layout", R"(layout "Nothing"
entry for i in range(0, 2) {
  path = "e{i}"
  data = bytes(i, 1)
  size = if i == 0 then nothing else 1
  mode = if i == 0 then nothing else 0o644
  kind = if i == 0 then nothing else "note"
  folder = if i == 0 then nothing else false
  encrypted = if i == 0 then nothing else false
  check crc32 of data = if i == 0 then nothing else 0x83dcefb7
  crc32 = nothing; comment = nothing; link = nothing; time = nothing; also = nothing
})");
  temp.write("a.nth", "x1");
  Ran ran = tool({"verify", "--layout", "n.layout", "a.nth"});
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(has(ran.out, "2 files decoded")) << ran.out;
  EXPECT_TRUE(has(ran.out, "No faults")) << ran.out;
}

TEST_F(LayoutCommands, NamesAreMadeByATemplate) {
  temp.write(".config/operculum/layouts/pair.layout", kPair);
  Ran ran =
      tool({"unpack", "a.pair", "--into", "out", "--name-as", "{title}-{version}-{number}-{name}{ending}"});
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(temp.listing("out"), "reef-3-1-first.txt reef-3-2-second.txt");
  Ran unknown = tool({"unpack", "a.pair", "--into", "other", "--name-as", "{titel}"});
  EXPECT_EQ(unknown.exit_code, 3);
  EXPECT_NE(unknown.err.find("nothing is known of \"titel\"; there are path, folder"), std::string::npos)
      << unknown.err;
}

TEST_F(LayoutCommands, KeysComeByNameFromTheKeyFile) {
  Pack pack = gauge_pack();
  temp.write(pack.name, pack.bytes);
  Ran none = tool({"list", pack.name});
  EXPECT_EQ(none.exit_code, 4);
  EXPECT_NE(none.err.find("the key \"gauge master\" is needed"), std::string::npos) << none.err;
  std::string hex;
  for (char c : pack.key)
    hex += "0123456789abcdef"[static_cast<unsigned char>(c) / 16], hex += "0123456789abcdef"[c % 16];
  temp.write(".config/operculum/keys.toml", "[[key]]\nname = \"gauge master\"\nhex = \"" + hex + "\"\n");
  EXPECT_EQ(tool({"show", pack.name + "/tables/tides.csv"}).out, pack.contents.at("tables/tides.csv"));
}

TEST_F(LayoutCommands, PartsAreFoundBesideTheIndex) {
  Pack pack = mussel_pack(true);
  temp.write("sea/" + pack.name, pack.bytes);
  for (const auto& [name, bytes] : pack.beside) temp.write("sea/" + name, bytes);
  EXPECT_EQ(tool({"verify", "sea/survey.bed"}).exit_code, 0);
  EXPECT_EQ(tool({"show", "sea/survey.bed/south/map.txt"}).out, pack.contents.at("south/map.txt"));
  std::filesystem::remove(temp.path("sea/survey.000"));
  Ran ran = tool({"verify", "sea/survey.bed"});
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_NE(ran.out.find("the file \"survey.000\" is wanted beside \"survey.bed\""), std::string::npos)
      << ran.out;
}

TEST_F(LayoutCommands, KnownNamesCanBeGiven) {
  Pack pack = tern_pack();
  temp.write(pack.name, pack.bytes);
  temp.write("more.names", "# found in an old script\ncalls/lost.txt\n");
  EXPECT_NE(tool({"list", "--paths", pack.name}).out.find("unknown/"), std::string::npos);
  EXPECT_NE(tool({"list", "--paths", "--known-names", "more.names", pack.name}).out.find("calls/lost.txt\n"),
            std::string::npos);
}

constexpr const char* kTides = R"(layout "Tide log"
suffix .tides
record Head { magic bytes "TIDE"
              at u32 }
record Row { at u8
             size u8
             name text[1] }
head = Head at 0
rows = Row[3] at head.at
entry for r in rows { path = r.name
                      data = bytes(r.at, r.size) }
)";

TEST_F(LayoutCommands, AHeadThatCannotBeReadDoesNotFit) {
  temp.write(".config/operculum/layouts/aaa.layout", kTides);
  temp.write("odd.bin", ByteWriter().text("TIDE").u32(1711866113).text("and more").take());
  Ran listed = tool({"list", "odd.bin"});
  EXPECT_EQ(listed.exit_code, 3);
  EXPECT_NE(listed.err.find("it looks like a Tide log, but aaa.layout"), std::string::npos) << listed.err;
  Ran told = tool({"identify", "odd.bin"});
  EXPECT_NE(told.out.find("warning   it looks like a Tide log, but aaa.layout"), std::string::npos)
      << told.out;
  temp.write("zzz.layout",
             "layout \"Other\"\nrecord H { magic bytes \"TIDE\" }\nh = H at 0\n"
             "entry { path = \"x\"\ndata = bytes(0, 4) }\n");
  std::filesystem::copy(temp.path("zzz.layout"), temp.path(".config/operculum/layouts/zzz.layout"));
  EXPECT_EQ(tool({"list", "--paths", "odd.bin"}).out, "x\n") << "another description fits";
  told = tool({"identify", "--verbose", "odd.bin"});
  EXPECT_NE(told.out.find("claim     Other: its structure is there from the first byte on"),
            std::string::npos)
      << told.out;
  EXPECT_NE(told.out.find("no claim  it looks like a Tide log, but aaa.layout"), std::string::npos)
      << told.out;
  Ran checked = tool({"layout", "check", "zzz.layout", "odd.bin"});
  EXPECT_EQ(checked.exit_code, 0) << "this description alone: " << checked.err << checked.out;
}

TEST_F(LayoutCommands, ANamedDescriptionSaysWhyItDoesNotFit) {
  temp.write("tides.layout", kTides);
  Ran ran = tool({"list", "--layout", "tides.layout", "a.pair"});
  EXPECT_EQ(ran.exit_code, 3);
  EXPECT_NE(
      ran.err.find("the description tides does not fit: at offset 0 expected 54 49 44 45, found 50 41 49 52"),
      std::string::npos)
      << ran.err;
}

TEST_F(LayoutCommands, VerifyCountsAFaultOnce) {
  temp.write("tides.layout", kTides);
  Bytes bytes = ByteWriter()
                    .text("TIDE")
                    .u32(8)
                    .u8(17)
                    .u8(2)
                    .text("a")
                    .u8(90)
                    .u8(2)
                    .text("b")
                    .u8(18)
                    .u8(1)
                    .text("a")
                    .text("xyz")
                    .take();
  temp.write("log.tides", ByteView(bytes));
  Ran ran = tool({"verify", "--layout", "tides.layout", "log.tides"});
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_NE(ran.out.find("; 1 failed."), std::string::npos) << ran.out << ran.err;
  EXPECT_NE(ran.out.find("1 path is there more than once, the first is \"a\""), std::string::npos) << ran.out;
  EXPECT_EQ(tool({"show", "--layout", "tides.layout", "log.tides/a~1"}).out, "xy");
  EXPECT_EQ(tool({"show", "--layout", "tides.layout", "log.tides/a~2"}).out, "y");
}

TEST_F(LayoutCommands, CoverageFollowsWhatIsJoinedAndDecoded) {
  temp.write("parts.layout", R"(layout "Parts"
record Head { magic bytes "PART" }
head = Head at 0
region spare = join(b in [4, 8]: bytes(b, 2))
fact title = text(join(b in [6, 10]: bytes(b, 2)))
entry { path = "a"
        data = join(b in [12, 14]: bytes(b, 2)) }
)");
  temp.write("p.bin", "PARTs1t1s2t2aabb");
  Ran ran = tool({"layout", "check", "parts.layout", "p.bin"});
  EXPECT_NE(
      ran.out.find("header 50.00 %, index 25.00 %, entry data 25.00 %, padding 0.00 %, unexplained 0.00 %"),
      std::string::npos)
      << ran.out;
}

TEST_F(LayoutCommands, FactsOfOneNameAreAllTold) {
  temp.write("two.layout",
             "layout \"Two\"\nrecord H { magic bytes \"PAIR\" }\nh = H at 0\nfact tide = 1\nfact tide = 2\n"
             "fact gate = 3\nentry { path = \"x\"\ndata = bytes(0, 4) }\n");
  json record = json::parse(tool({"identify", "--json", "--layout", "two.layout", "a.pair"}).out);
  EXPECT_EQ(record["layers"][0]["facts"], json::parse(R"({"tide": ["1", "2"], "gate": "3"})")) << record;
}

TEST_F(LayoutCommands, ADescribedPackInAnArchiveIsAContainer) {
  temp.write("packs.tar",
             ByteView(TarBuilder().file("a.pair", temp.read("a.pair")).file("b", "x\n").build()));
  Ran ran = tool({"list", "--kinds", "--layout", "pair.layout", "packs.tar"});
  EXPECT_NE(ran.out.find("container"), std::string::npos) << ran.out;
}

TEST(LayoutCheck, ADescriptionThatIsNoneIsNotReadAtLength) {
  TempFolder folder;
  folder.write("large.layout", std::string((1 << 20) + 1, '#'));
  Ran ran = operculum({"layout", "check", "large.layout"}, folder.path());
  EXPECT_EQ(ran.exit_code, 5);
  EXPECT_EQ(ran.err, "operculum: error: large.layout: a description of more than 1048576 bytes\n");
}

}  // namespace
}  // namespace operculum::test

// Which entries are meant, by paths as they are printed, through the built program.
#include <gtest/gtest.h>

#include "support/has.h"
#include "support/program.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

TEST(Paths, ThatListPrintsWorkBehindALocatorAndInAList) {
  TempFolder folder;
  const std::vector<std::string> names = {
      "a b",        "tab\there", "line\nbreak",     "back\\slash", "quote'\"s",        "caf\xe9",
      "bidi\u202e", "\x1b[2J",   "zero\u200bwidth", "-dash",       "soft\u00adhyphen", "\\n literally",
      "trailing "};
  TarBuilder tar;
  for (const std::string& name : names) tar.file("odd/" + name, "content of " + name);
  folder.write("odd.tar", tar.build());
  std::string printed = operculum({"list", "--paths", "odd.tar"}, folder.path()).out;
  std::size_t count = 0;
  for (std::size_t at = 0; at < printed.size(); ++count) {
    std::size_t end = printed.find('\n', at);
    Ran shown = operculum({"show", "odd.tar/" + printed.substr(at, end - at)}, folder.path());
    EXPECT_EQ(shown.out, "content of " + names.at(count)) << printed.substr(at, end - at) << shown.err;
    at = end + 1;
  }
  EXPECT_EQ(count, names.size());
  folder.write("paths.txt", printed);
  Ran unpacked = operculum({"unpack", "odd.tar", "--list-from", "paths.txt", "--into", "out"}, folder.path());
  EXPECT_TRUE(has(unpacked.err, "wrote 13 files")) << unpacked.err;
}

TEST(Paths, TheRoundTripOfAFilteredListWritesWhatWasListed) {
  TempFolder folder;
  folder.write(
      "kiosk.tar",
      TarBuilder().folder("scripts").file("scripts/tide.lua", "x").file("scripts/sun.txt", "y").build());
  folder.write("paths.txt",
               operculum({"list", "--paths", "--except", "*.txt", "kiosk.tar"}, folder.path()).out);
  operculum({"unpack", "kiosk.tar", "--list-from", "paths.txt", "--into", "out"}, folder.path());
  EXPECT_EQ(folder.listing("out"), "scripts/ scripts/tide.lua");
}

TEST(Patterns, ThatFitNothingAreTold) {
  TempFolder folder;
  folder.write("kiosk.zip", ZipBuilder().add("tide.lua", "x").build());
  folder.write("lines.txt", "tide.lua\nmissing.png\n");
  for (const std::vector<std::string>& words : std::vector<std::vector<std::string>>{
           {"list", "kiosk.zip", "--match", "*.lua", "--match", "missing.png"},
           {"verify", "kiosk.zip", "--match", "*.lua", "--match", "missing.png"},
           {"unpack", "kiosk.zip", "--list-from", "lines.txt", "--into", "out"}}) {
    Ran ran = operculum(words, folder.path());
    EXPECT_EQ(ran.exit_code, 1) << words.front();
    EXPECT_TRUE(has(ran.err, "nothing fits \"missing.png\"")) << ran.err;
  }
  Ran none = operculum({"unpack", "kiosk.zip", "--match", "*.png", "--into", "none"}, folder.path());
  EXPECT_EQ(none.exit_code, 1);
  EXPECT_FALSE(folder.has("none")) << "no folder is left where nothing fitted";
}

TEST(Searches, PassOverWhatIsNoContainerAndSayWhereSomethingIs) {
  TempFolder folder;
  folder.write("shelf/a.zip", ZipBuilder().add("tide.lua", "x").build());
  folder.write("shelf/b.zip", ZipBuilder().add("sun.txt", "y").build());
  folder.write("shelf/notes.txt", "no container");
  Ran paths = operculum({"list", "--paths", "--match", "*.lua", "shelf"}, folder.path());
  EXPECT_EQ(paths.out, "shelf/a.zip/tide.lua\n") << paths.err;
  EXPECT_EQ(paths.exit_code, 0) << paths.err;
  EXPECT_EQ(paths.err, "");
  Ran json = operculum({"list", "--json", "--match", "*.lua", "shelf"}, folder.path());
  EXPECT_TRUE(has(json.out, "\"container\":\"shelf/a.zip\"")) << json.out;
  Ran csv = operculum({"list", "--csv", "--match", "*.lua", "shelf"}, folder.path());
  EXPECT_TRUE(csv.out.starts_with("container,path,")) << csv.out;
  EXPECT_TRUE(has(csv.out, "shelf/a.zip,tide.lua,file,1,")) << csv.out;
  Ran table = operculum({"list", "--match", "*.lua", "shelf"}, folder.path());
  EXPECT_TRUE(table.out.starts_with("shelf/a.zip\n")) << table.out;
  EXPECT_FALSE(has(table.out, "b.zip")) << table.out;
}

TEST(List, LeavesOutColumnsThatSayNothing) {
  TempFolder folder;
  folder.write("plain.tar", TarBuilder().file("a", "12345").build());
  Ran plain = operculum({"list", "plain.tar"}, folder.path());
  EXPECT_TRUE(has(plain.out, "size  time")) << plain.out;
  EXPECT_FALSE(has(plain.out, "method")) << plain.out;
  Ran full = operculum({"list", "--long", "plain.tar"}, folder.path());
  EXPECT_TRUE(has(full.out, "0644  curator:museum")) << full.out;
}

TEST(List, DigestsOfContents) {
  TempFolder folder;
  folder.write("kiosk.zip", ZipBuilder().add("empty", "").build());
  EXPECT_EQ(operculum({"list", "--digest", "sha256", "kiosk.zip"}, folder.path()).out,
            "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855  empty\n");
}

TEST(List, OnlyOneKind) {
  TempFolder folder;
  folder.write("kiosk.zip", ZipBuilder().add("run.sh", "#!/bin/sh\n").add("notes.txt", "tide\n").build());
  EXPECT_EQ(operculum({"list", "--paths", "--only-kind", "script", "kiosk.zip"}, folder.path()).out,
            "run.sh\n");
}

}  // namespace
}  // namespace operculum::test

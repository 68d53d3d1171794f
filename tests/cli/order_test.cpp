// order, as a person calls it.
#include <gtest/gtest.h>

#include "codec/codec.h"
#include "support/has.h"
#include "support/program.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

/// Packs of four kinds: a ZIP, a solid archive, a folder, another ZIP with a number that sorts by value
/// alone.
void write_packs(const TempFolder& folder) {
  folder.write("load/1-base.zip", ZipBuilder()
                                      .add("textures/crab.txt", "red")
                                      .add("textures/limpet.txt", "grey")
                                      .add("tide.lua", "2")
                                      .build());
  folder.write(
      "load/2-harbour.tgz",
      encode("gzip",
             TarBuilder().file("textures/crab.txt", "blue").file("textures/limpet.txt", "grey").build()));
  folder.write("load/3-loose/Textures/Crab.txt", "pink");
  folder.write("load/10-winter.zip", ZipBuilder().add("textures/crab.txt", "white").build());
}

TEST(Order, TellsWhoProvidesEachPath) {
  TempFolder folder;
  write_packs(folder);
  Ran ran = operculum({"order", "load/1-base.zip", "load/2-harbour.tgz", "load/3-loose"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(has(ran.out,
                  "Textures/Crab.txt: 3-loose\n"
                  "textures/crab.txt: 2-harbour.tgz over 1-base.zip (differs)\n"
                  "textures/limpet.txt: 2-harbour.tgz over 1-base.zip (same)\n"
                  "tide.lua: 1-base.zip\n"))
      << ran.out;
  EXPECT_TRUE(has(ran.out, "4 paths; 2 in several packs, 1 of these with other bytes.")) << ran.out;
}

TEST(Order, KnowsTheGamesRules) {
  TempFolder folder;
  write_packs(folder);
  auto winner = [&](std::vector<std::string> words) {
    words.insert(words.begin(), {"order", "--only-conflicts"});
    std::string out = operculum(words, folder.path()).out;
    return out.substr(0, out.find('\n'));
  };
  EXPECT_EQ(winner({"load"}),
            "textures/crab.txt: 2-harbour.tgz over 1-base.zip (differs), 10-winter.zip (differs)");
  EXPECT_EQ(winner({"load", "--by", "number"}),
            "textures/crab.txt: 10-winter.zip over 1-base.zip (differs), 2-harbour.tgz (differs)");
  EXPECT_EQ(winner({"load", "--by", "number", "--ignore-case", "--first-wins"}),
            "textures/crab.txt: 1-base.zip over 10-winter.zip (differs), 3-loose (differs), 2-harbour.tgz "
            "(differs)");
  folder.write("load.txt", "# for the hall\nload/10-winter.zip\nload/1-base.zip\n");
  EXPECT_EQ(winner({"--order-from", "load.txt"}),
            "textures/crab.txt: 1-base.zip over 10-winter.zip (differs)");
}

TEST(Order, LooksOnlyBeneathItsRoots) {
  TempFolder folder;
  folder.write("a.zip", ZipBuilder().add("data/x.txt", "1").add("readme.txt", "a").build());
  folder.write("b.zip", ZipBuilder().add("Data/x.txt", "2").add("readme.txt", "b").build());
  Ran ran = operculum({"order", "a.zip", "b.zip", "--root", "data", "--ignore-case"}, folder.path());
  EXPECT_TRUE(has(ran.out, "x.txt: b.zip over a.zip (differs)\n")) << ran.out;
  EXPECT_FALSE(has(ran.out, "readme"));
  EXPECT_TRUE(has(operculum({"order", "b.zip", "--root", "sounds"}, folder.path()).err,
                  "nothing in it is beneath a --root"));
}

TEST(Order, SaysWhy) {
  TempFolder folder;
  write_packs(folder);
  Ran ran = operculum({"order", "load", "--by", "number", "--ignore-case", "--why", "textures/CRAB.txt"},
                      folder.path());
  EXPECT_EQ(ran.exit_code, 0);
  EXPECT_TRUE(has(ran.out, "1-base.zip")) << ran.out;
  EXPECT_TRUE(has(ran.out, "Textures/Crab.txt"));
  EXPECT_TRUE(has(ran.out, "wins"));
  EXPECT_EQ(operculum({"order", "load", "--why", "no/such"}, folder.path()).exit_code, 1);
  Ran json = operculum({"order", "load", "--why", "tide.lua", "--json"}, folder.path());
  EXPECT_TRUE(has(json.out, "\"winner\":\"load/1-base.zip\"")) << json.out;
}

TEST(Order, UnpacksWhatTheGameSeesAndTakesItBack) {
  TempFolder folder;
  write_packs(folder);
  std::vector<std::string> words = {"order", "load", "--by", "number", "--ignore-case", "--unpack-winners",
                                    "merged"};
  std::vector<std::string> dry = words;
  dry.emplace_back("--dry-run");
  EXPECT_EQ(operculum(dry, folder.path()).exit_code, 0);
  EXPECT_FALSE(folder.has("merged"));
  words.insert(words.end(), {"--receipt", "receipt.json"});
  Ran ran = operculum(words, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(folder.read("merged/textures/crab.txt"), "white");
  EXPECT_EQ(folder.read("merged/textures/limpet.txt"), "grey");
  EXPECT_EQ(folder.read("merged/tide.lua"), "2");
  EXPECT_EQ(operculum({"discard", "receipt.json"}, folder.path()).exit_code, 0);
  EXPECT_FALSE(folder.has("merged"));
}

TEST(Order, APackThatCannotBeOpenedCostsOnlyItself) {
  TempFolder folder;
  write_packs(folder);
  folder.write("load/4-broken.zip", "no pack at all");
  Ran ran = operculum({"order", "load"}, folder.path());
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_TRUE(has(ran.err, "4-broken.zip")) << ran.err;
  EXPECT_TRUE(has(ran.out, "tide.lua: 1-base.zip"));
}

TEST(Order, NamesAPackThatIsNotThereOnce) {
  TempFolder folder;
  Ran ran = operculum({"order", "lost.pack"}, folder.path());
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_EQ(ran.err, "operculum: warning: lost.pack: No such file or directory\n");
}

TEST(Order, DrawsAMatrix) {
  TempFolder folder;
  write_packs(folder);
  Ran ran = operculum({"order", "load", "--page", "order.html"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  std::string page = folder.read("order.html");
  EXPECT_TRUE(has(page, "<svg class=\"matrix\""));
  EXPECT_TRUE(has(page, "2-harbour.tgz wins over 1-base.zip: 1 file"));
}

}  // namespace
}  // namespace operculum::test

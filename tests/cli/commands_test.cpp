#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <sstream>

#include "codec/codec.h"
#include "container/format.h"
#include "support/json.h"
#include "support/program.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

using nlohmann::json;

std::vector<json> lines_of(const std::string& text) {
  std::vector<json> records;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) records.push_back(json::parse(line));
  return records;
}

struct Commands : testing::Test {
  TempFolder temp;
  Ran tool(const std::vector<std::string>& arguments,
           const std::map<std::string, std::string>& environment = {}, const std::string& input = "") {
    return operculum(arguments, temp.path(), environment, input);
  }
  void SetUp() override {
    Bytes inner = ZipBuilder().add("crab.txt", "pinch").add("deep/pearl.txt", "shine").build();
    temp.write("pool.skin", ZipBuilder()
                                .folder("textures")
                                .add("textures/crab.png", "a picture")
                                .add("notes.txt", "high water\n")
                                .stored("inner.zip", inner)
                                .build());
    temp.write("pool.tar.gz", encode("gzip", TarBuilder()
                                                 .folder("etc")
                                                 .file("etc/hosts", "127.0.0.1 kiosk\n")
                                                 .add({.name = "pool.zip", .data = inner})
                                                 .build()));
  }
};

TEST_F(Commands, IdentifyTellsTheTruthAboutRenamedFiles) {
  Ran ran = tool({"identify", "pool.skin"});
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_NE(ran.out.find("is        ZIP archive"), std::string::npos);
  EXPECT_NE(ran.out.find("holds     3 files, 1 folder"), std::string::npos);
  EXPECT_NE(ran.out.find("named .skin; it is a ZIP archive: no renaming needed, unpack it as it is"),
            std::string::npos);
  temp.write("song.zip", TarBuilder().file("a", "x").build());
  EXPECT_NE(
      tool({"identify", "song.zip"}).out.find("warning   named .zip; it is a tar archive: not a ZIP archive"),
      std::string::npos);
  temp.write("picture.zip", "\x89PNG\r\n\x1a\n");
  EXPECT_NE(tool({"identify", "picture.zip"}).out.find("renaming a file does not convert it"),
            std::string::npos);
}

TEST_F(Commands, IdentifyTellsEveryClaimWhenAsked) {
  std::string zip = temp.read("pool.skin");
  temp.write("hall.img", std::string(40'000, '\0') + zip);
  Ran ran = tool({"identify", "--verbose", "pool.skin"});
  EXPECT_NE(ran.out.find("claim     ZIP archive: its structure is there from the first byte on\n"),
            std::string::npos)
      << ran.out;
  ran = tool({"identify", "--verbose", "hall.img"});
  EXPECT_NE(
      ran.out.find("claim     ZIP archive: its structure is there, but something else may lie around it\n"),
      std::string::npos)
      << ran.out;
  EXPECT_EQ(tool({"identify", "pool.skin"}).out.find("claim "), std::string::npos);
  json found = lines_of(tool({"identify", "--verbose", "--json", "pool.skin"}).out).at(0);
  EXPECT_EQ(found["claims"][0]["format"], "zip");
  EXPECT_EQ(found["claims"][0]["reason"], "its structure is there from the first byte on");
  ran = tool({"identify", "--verbose", "pool.skin/notes.txt"});
  EXPECT_EQ(ran.out.find("claim "), std::string::npos) << "a text is no container\n" << ran.out;
}

TEST_F(Commands, IdentifyNamesEveryLayer) {
  json found = lines_of(tool({"identify", "--json", "pool.tar.gz"}).out).at(0);
  ASSERT_EQ(found["layers"].size(), 2u);
  EXPECT_EQ(found["layers"][0]["format"], "gzip");
  EXPECT_EQ(found["layers"][1]["format"], "tar");
  EXPECT_EQ(found["layers"][1]["files"], 2);
}

TEST_F(Commands, IdentifyPointsOutSizesThatArePowersOfTwo) {
  temp.write("dump.bin", std::string(65536, 'x'));
  EXPECT_NE(tool({"identify", "dump.bin"}).out.find("the size is a power of two (64.0 KiB)"),
            std::string::npos);
}

TEST_F(Commands, ListPrintsATable) {
  Ran ran = tool({"list", "pool.skin"});
  EXPECT_EQ(ran.exit_code, 0);
  EXPECT_NE(ran.out.find("method   time              flags  path"), std::string::npos);
  EXPECT_NE(ran.out.find("deflate  2026-03-01 14:05  -      notes.txt"), std::string::npos);
  EXPECT_NE(ran.out.find("F      textures/"), std::string::npos);
}

TEST_F(Commands, ListPathsPrintsPathsAndNothingElse) {
  EXPECT_EQ(tool({"list", "--paths", "pool.skin"}).out,
            "textures\ntextures/crab.png\nnotes.txt\ninner.zip\n");
  EXPECT_EQ(tool({"list", "--paths", "pool.skin/textures"}).out, "textures\ntextures/crab.png\n");
  EXPECT_EQ(tool({"list", "--paths", "--deep", "pool.skin"}).out,
            "textures\ntextures/crab.png\nnotes.txt\ninner.zip/crab.txt\ninner.zip/deep/pearl.txt\n");
}

TEST_F(Commands, ListSelectsAndSorts) {
  EXPECT_EQ(
      tool({"list", "--paths", "--match", "*.txt", "--match", "*.png", "--except", "textures", "pool.skin"})
          .out,
      "notes.txt\n");
  EXPECT_EQ(tool({"list", "--paths", "--sort", "path", "pool.skin"}).out,
            "inner.zip\nnotes.txt\ntextures\ntextures/crab.png\n");
  EXPECT_EQ(tool({"list", "--paths", "--sort", "size", "--except", "textures", "pool.skin"}).out,
            "inner.zip\nnotes.txt\n");
  EXPECT_EQ(tool({"list", "--paths", "--match", "*.TXT", "--ignore-case", "pool.skin"}).out, "notes.txt\n");
}

TEST_F(Commands, ListDrawsATree) {
  EXPECT_EQ(tool({"list", "--tree", "--deep", "pool.skin"}).out,
            "├─ textures/\n│  └─ crab.png  9 B\n├─ notes.txt  11 B\n└─ inner.zip/\n   ├─ crab.txt  5 B\n   "
            "└─ deep/\n      └─ pearl.txt  5 B\n");
}

TEST_F(Commands, ListSummarisesByKindAndFolder) {
  json summary = lines_of(tool({"list", "--summary", "--json", "pool.skin"}).out).at(0);
  EXPECT_EQ(summary["by_kind"]["text"]["count"], 2);
  EXPECT_EQ(summary["by_kind"]["container"]["largest"], "inner.zip");
  EXPECT_EQ(summary["by_folder"]["textures"]["count"], 1);
  EXPECT_EQ(summary["files"]["count"], 3);
}

TEST_F(Commands, ListWritesCsvAndJson) {
  std::string csv = tool({"list", "--csv", "--match", "notes.txt", "pool.skin"}).out;
  EXPECT_EQ(csv,
            "path,kind,size,stored,method,time,mode,flags,link_target\r\nnotes.txt,file,11,13,deflate,2026-"
            "03-01T14:05:08,0644,,\r\n");
  json entry = lines_of(tool({"list", "--json", "--match", "notes.txt", "pool.skin"}).out).at(0);
  EXPECT_EQ(entry["path"], "notes.txt");
  EXPECT_EQ(entry["size"], 11);
  EXPECT_EQ(entry["mode"], "0644");
}

TEST_F(Commands, OutputGoesToANewFileOnly) {
  EXPECT_EQ(tool({"list", "--paths", "--output", "paths.txt", "pool.skin"}).out, "");
  EXPECT_EQ(temp.read("paths.txt").substr(0, 9), "textures\n");
  EXPECT_EQ(tool({"list", "--paths", "--output", "paths.txt", "pool.tar.gz"}).exit_code, 3)
      << "nothing that exists is replaced";
  EXPECT_EQ(temp.read("paths.txt").substr(0, 9), "textures\n");
}

TEST_F(Commands, ShowPrintsBytesThroughSeveralContainers) {
  EXPECT_EQ(tool({"show", "pool.skin/notes.txt"}).out, "high water\n");
  EXPECT_EQ(tool({"show", "pool.tar.gz/pool.zip/deep/pearl.txt"}).out, "shine");
  EXPECT_EQ(tool({"show", "pool.tar.gz/etc/hosts", "--from", "4", "--length", "3"}).out, "0.0");
  EXPECT_EQ(tool({"show", "--hex", "pool.skin/notes.txt", "--from", "0x5", "--length", "5"}).out,
            "00000005  77 61 74 65 72" + std::string(36, ' ') + "water\n");
  EXPECT_EQ(tool({"show", "pool.skin/inner.zip"}).out.substr(0, 2), "PK")
      << "an entry's own bytes, container or not";
}

TEST_F(Commands, ShowExplainsWhatItCannotShow) {
  Ran folder = tool({"show", "pool.skin/textures"});
  EXPECT_EQ(folder.exit_code, 3);
  EXPECT_NE(folder.err.find("it is a folder; name one entry in it"), std::string::npos);
  EXPECT_NE(tool({"show", "pool.skin"}).err.find("operculum list pool.skin"), std::string::npos);
  EXPECT_NE(tool({"show", "--hex", "--length", "4", "pool.skin"}).out.find("50 4b 03 04"), std::string::npos)
      << "whoever works out a format wants to see its bytes";
  EXPECT_NE(tool({"show", "pool.skin/Notes.txt"}).err.find("did you mean \"notes.txt\"?"), std::string::npos);
  EXPECT_NE(tool({"show", "nowhere.zip"}).err.find("nowhere.zip: No such file or directory"),
            std::string::npos);
}

TEST_F(Commands, UnpackMakesAFolderOfItsOwn) {
  Ran ran = tool({"unpack", "pool.skin"});
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(temp.listing("pool"), "inner.zip notes.txt textures/ textures/crab.png");
  EXPECT_NE(ran.err.find("wrote 3 files"), std::string::npos);
  EXPECT_EQ(tool({"unpack", "pool.skin"}).exit_code, 0);
  EXPECT_EQ(temp.listing("pool~2"), "inner.zip notes.txt textures/ textures/crab.png")
      << "never into what is there";
}

TEST_F(Commands, UnpackTakesOneFolderOrOneEntry) {
  EXPECT_EQ(tool({"unpack", "pool.skin/textures", "--into", "a"}).exit_code, 0);
  EXPECT_EQ(temp.listing("a"), "textures/ textures/crab.png");
  EXPECT_EQ(tool({"unpack", "pool.skin/textures/crab.png", "--into", "b"}).exit_code, 0);
  EXPECT_EQ(temp.listing("b"), "crab.png");
  EXPECT_EQ(tool({"unpack", "pool.tar.gz/pool.zip/deep", "--into", "c"}).exit_code, 0);
  EXPECT_EQ(temp.listing("c"), "deep/ deep/pearl.txt");
}

TEST_F(Commands, UnpackTakesAnInnerContainerAsTheFileThatItIs) {
  Ran file = tool({"unpack", "pool.skin/inner.zip", "--into", "file"});
  EXPECT_EQ(file.exit_code, 0) << file.err;
  EXPECT_EQ(temp.listing("file"), "inner.zip");
  EXPECT_NE(file.err.find("what is in it: operculum unpack pool.skin/inner.zip/"), std::string::npos)
      << file.err;
  EXPECT_EQ(tool({"unpack", "pool.skin/inner.zip/", "--into", "contents"}).exit_code, 0);
  EXPECT_EQ(temp.listing("contents"), "crab.txt deep/ deep/pearl.txt");
  EXPECT_EQ(tool({"unpack", "pool.skin/inner.zip", "--match", "crab.txt", "--into", "some"}).exit_code, 0);
  EXPECT_EQ(temp.listing("some"), "crab.txt");
  EXPECT_EQ(tool({"unpack", "pool.skin/inner.zip", "--deep", "--into", "deep"}).exit_code, 0);
  EXPECT_EQ(temp.listing("deep"), "crab.txt deep/ deep/pearl.txt");
}

TEST_F(Commands, UnpackGoesDeepFlatOrByAList) {
  EXPECT_EQ(tool({"unpack", "pool.tar.gz", "--deep", "--into", "a"}).exit_code, 0);
  EXPECT_EQ(temp.listing("a"),
            "etc/ etc/hosts pool.zip/ pool.zip/crab.txt pool.zip/deep/ pool.zip/deep/pearl.txt");
  EXPECT_EQ(tool({"unpack", "pool.skin", "--flat", "--into", "b"}).exit_code, 0);
  EXPECT_EQ(temp.listing("b"), "crab.png inner.zip notes.txt");
  EXPECT_EQ(tool({"unpack", "pool.skin", "--list-from", "-", "--into", "c"}, {}, "notes.txt\n").exit_code, 0);
  EXPECT_EQ(temp.listing("c"), "notes.txt");
  EXPECT_EQ(tool({"unpack", "pool.skin", "--match", "*.png", "--into", "d"}).exit_code, 0);
  EXPECT_EQ(temp.listing("d"), "textures/ textures/crab.png");
}

TEST_F(Commands, UnpackSaysWhenNothingFits) {
  Ran ran = tool({"unpack", "pool.skin", "--match", "*.wav", "--into", "a"});
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_NE(ran.err.find("nothing fits"), std::string::npos);
}

TEST_F(Commands, UnpackDryRunPlansAllAndWritesNothing) {
  std::string before = temp.listing();
  Ran ran = tool({"unpack", "pool.tar.gz", "--deep", "--dry-run", "--receipt", "r.json"});
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(ran.out, "etc/\netc/hosts  16 B\npool.zip/crab.txt  5 B\npool.zip/deep/pearl.txt  5 B\n");
  EXPECT_NE(ran.err.find("nothing was written"), std::string::npos);
  EXPECT_EQ(temp.listing(), before);
}

TEST_F(Commands, UnpackKeepsWhatIsThereUnlessAsked) {
  temp.write("a/notes.txt", "mine");
  Ran kept = tool({"unpack", "pool.skin", "--into", "a"});
  EXPECT_EQ(temp.read("a/notes.txt"), "mine");
  EXPECT_NE(kept.err.find("notes.txt: not written, something is there already"), std::string::npos);
  EXPECT_EQ(
      tool({"unpack", "pool.skin", "--into", "a", "--existing", "rename", "--match", "notes.txt"}).exit_code,
      0);
  EXPECT_EQ(temp.read("a/notes.txt"), "mine");
  EXPECT_EQ(temp.read("a/notes~2.txt"), "high water\n");
  EXPECT_EQ(
      tool({"unpack", "pool.skin", "--into", "a", "--existing", "replace", "--match", "notes.txt"}).exit_code,
      0);
  EXPECT_EQ(temp.read("a/notes.txt"), "high water\n");
}

TEST_F(Commands, DiscardTakesBackWhatIsUnchanged) {
  ASSERT_EQ(tool({"unpack", "pool.skin", "--into", "a", "--receipt", "r.json"}).exit_code, 0);
  json receipt = json::parse(temp.read("r.json"));
  EXPECT_EQ(receipt["source"], "pool.skin");
  bool has_digest = false;
  for (const json& item : receipt["written"])
    has_digest |=
        item["path"] == "notes.txt" && item["size"] == 11 && item["sha256"].get<std::string>().size() == 64;
  EXPECT_TRUE(has_digest);
  temp.write("a/notes.txt", "changed");
  temp.write("a/own.txt", "mine");
  Ran trial = tool({"discard", "--dry-run", "r.json"});
  EXPECT_NE(trial.out.find("textures/crab.png: would be removed"), std::string::npos);
  EXPECT_TRUE(temp.has("a/textures/crab.png"));
  Ran ran = tool({"discard", "r.json"});
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_NE(ran.out.find("notes.txt: it was changed since, so it stays"), std::string::npos);
  EXPECT_EQ(temp.listing("a"), "notes.txt own.txt");
}

TEST_F(Commands, DiscardOfAnUntouchedUnpackLeavesNothing) {
  ASSERT_EQ(tool({"unpack", "pool.tar.gz", "--into", "a", "--receipt", "r.json"}).exit_code, 0);
  EXPECT_EQ(tool({"discard", "r.json"}).exit_code, 0);
  EXPECT_FALSE(temp.has("a"));
  EXPECT_EQ(tool({"discard", "pool.skin"}).exit_code, 3) << "no receipt";
}

TEST_F(Commands, DiscardDoesNotBelieveAForgedReceipt) {
  temp.write("precious", "mine");
  temp.write("a/x", "x");
  temp.write(
      "r.json",
      R"({"kind":"operculum receipt","version":2,"source":"s","folder":")" + temp.path("a") +
          R"(","complete":true,"written":[{"path":"../precious","kind":"file","size":4,"sha256":"00"}]})");
  EXPECT_EQ(tool({"discard", "r.json"}).exit_code, 3);
  EXPECT_EQ(temp.read("precious"), "mine");
}

TEST_F(Commands, VerifyFindsEveryFaultAndWritesNothing) {
  Bytes zip = ZipBuilder()
                  .add("good", "fine")
                  .add({.name = "bad1", .data = to_bytes("x"), .crc = 1})
                  .add({.name = "bad2", .data = to_bytes("y"), .crc = 2})
                  .build();
  temp.write("damaged.zip", zip);
  std::string before = temp.listing();
  Ran ran = tool({"verify", "damaged.zip"});
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_NE(
      ran.out.find("bad1: checksum differs (stored 00000001, computed 8cdc1683); the data is damaged\n"),
      std::string::npos);
  EXPECT_NE(ran.out.find("bad2: checksum differs"), std::string::npos);
  EXPECT_NE(ran.out.find("1 of 3 files decoded (4 B); it has a checksum, and it is right; 2 failed."),
            std::string::npos);
  EXPECT_EQ(temp.listing(), before);
  EXPECT_EQ(tool({"verify", "--deep", "pool.skin", "pool.tar.gz"}).exit_code, 0);
}

TEST_F(Commands, VerifyGoesDeep) {
  Bytes inner = ZipBuilder().add({.name = "bad", .data = to_bytes("x"), .crc = 1}).build();
  temp.write("outer.tar", TarBuilder().add({.name = "inner.zip", .data = inner}).build());
  EXPECT_EQ(tool({"verify", "outer.tar"}).exit_code, 0);
  Ran deep = tool({"verify", "--deep", "outer.tar"});
  EXPECT_EQ(deep.exit_code, 1);
  EXPECT_NE(deep.out.find("inner.zip/bad: checksum differs"), std::string::npos);
}

TEST_F(Commands, VerifyCountsChecksumsOfEnclosingLayers) {
  EXPECT_NE(tool({"verify", "pool.tar.gz"}).out.find("every one of these has a checksum"), std::string::npos);
  temp.write("plain.tar", TarBuilder().file("a", "x").build());
  EXPECT_NE(tool({"verify", "plain.tar"}).out.find("there is no checksum to compare"), std::string::npos);
}

TEST_F(Commands, DamageInASolidLayerIsNeverTakenForItsEnd) {
  Bytes packed = encode(
      "gzip", TarBuilder().file("a", std::string(300'000, 'a')).file("b", std::string(300'000, 'b')).build());
  packed.resize(packed.size() * 2 / 3);
  temp.write("cut.tar.gz", packed);
  for (const char* depth : {"--deep", "--quiet"}) {
    EXPECT_EQ(tool({"verify", depth, "cut.tar.gz"}).exit_code, 1) << depth;
    EXPECT_EQ(tool({"unpack", depth, "cut.tar.gz", "--into", std::string("out") + depth}).exit_code, 1)
        << depth;
    EXPECT_FALSE(temp.has(std::string("out") + depth + "/b")) << depth;
  }
}

TEST_F(Commands, DamagedEntriesCostNoOthers) {
  temp.write("d.zip", ZipBuilder()
                          .add("a", "alpha")
                          .add({.name = "bad", .data = to_bytes("x"), .crc = 1})
                          .add("z", "omega")
                          .build());
  Ran ran = tool({"unpack", "d.zip", "--into", "out"});
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_EQ(temp.listing("out"), "a z");
  EXPECT_NE(ran.err.find("bad: checksum differs (stored 00000001, computed 8cdc1683); the data is damaged; "
                         "kept out of the output"),
            std::string::npos);
  EXPECT_EQ(tool({"unpack", "d.zip", "--into", "kept", "--keep-damaged"}).exit_code, 1);
  EXPECT_EQ(temp.listing("kept"), "a bad.damaged z");
}

TEST_F(Commands, PasswordsComeFromFileEnvironmentOrKeyFile) {
  temp.write("kiosk-v2.zip",
             ZipBuilder()
                 .add({.name = "secret", .data = to_bytes("pearl"), .password = "limpet", .aes_strength = 3})
                 .build());
  temp.write("pw", "limpet\n");
  EXPECT_EQ(tool({"show", "--password-file", "pw", "kiosk-v2.zip/secret"}).out, "pearl");
  EXPECT_EQ(tool({"show", "kiosk-v2.zip/secret"}, {{"OPERCULUM_PASSWORD", "limpet"}}).out, "pearl");
  Ran none = tool({"show", "kiosk-v2.zip/secret"});
  EXPECT_EQ(none.exit_code, 4);
  EXPECT_NE(none.err.find("a password is needed"), std::string::npos);
  temp.write("pw", " limpet\n");
  Ran blank = tool({"unpack", "--password-file", "pw", "kiosk-v2.zip", "--into", "out"});
  EXPECT_EQ(blank.exit_code, 4);
  EXPECT_NE(blank.err.find("begins with a blank, and without it it is right"), std::string::npos);
  EXPECT_EQ(temp.listing("out"), "") << "never an empty file";
  temp.write(".config/operculum/keys.toml",
             "[[key]]\nfor = \"other-*\"\npassword = \"whelk\"\n[[key]]\nfor = \"kiosk-*\"\npassword = "
             "\"limpet\"\n");
  EXPECT_EQ(tool({"show", "kiosk-v2.zip/secret"}).out, "pearl");
}

TEST_F(Commands, ConfigurationGivesDefaults) {
  temp.write(".config/operculum/config.toml", "names-in = \"CP932\"\n");
  temp.write("old.zip", ZipBuilder().add("\x8a\x4c.txt", "x").build());
  EXPECT_EQ(tool({"list", "--paths", "old.zip"}).out, "貝.txt\n");
  EXPECT_EQ(tool({"list", "--paths", "--names-in", "CP1252", "old.zip"}).out, "ŠL.txt\n")
      << "the command line wins";
}

TEST_F(Commands, FormatsTellsFeaturesAndSpecifications) {
  Ran text = tool({"formats"});
  EXPECT_NE(text.out.find("APPNOTE 6.3.10"), std::string::npos);
  auto records = lines_of(tool({"formats", "--json"}).out);
  auto described = std::count_if(records.begin(), records.end(),
                                 [](const json& one) { return one["family"] == "described"; });
  EXPECT_EQ(records.size() - static_cast<std::size_t>(described), formats().size());
  EXPECT_EQ(described, 12) << "those that come with the program";
  EXPECT_EQ(records[0]["family"], "archive") << "by family, what people meet most first";
  EXPECT_EQ(records.back()["family"], "described");
  auto iso = std::find_if(records.begin(), records.end(),
                          [](const json& one) { return one["format"] == "iso9660"; });
  EXPECT_EQ((*iso)["views"][0], "rock-ridge");
}

TEST_F(Commands, ExitCodesTellWhatHappened) {
  EXPECT_EQ(tool({"list", "pool.skin"}).exit_code, 0);
  EXPECT_EQ(tool({"list"}).exit_code, 2);
  EXPECT_EQ(tool({"list", "--no-such-option", "pool.skin"}).exit_code, 2);
  EXPECT_EQ(tool({"list", "missing"}).exit_code, 3);
  temp.write("text.txt", "just text");
  EXPECT_EQ(tool({"list", "text.txt"}).exit_code, 3);
  EXPECT_EQ(tool({"list", "--max-entries", "2", "pool.skin"}).exit_code, 5);
}

TEST_F(Commands, TextForPeopleHasNoColourInAPipe) {
  for (const char* command : {"list", "identify", "verify"}) {
    Ran ran = tool({command, "pool.skin"});
    EXPECT_EQ((ran.out + ran.err).find('\x1b'), std::string::npos) << command;
  }
}

}  // namespace
}  // namespace operculum::test

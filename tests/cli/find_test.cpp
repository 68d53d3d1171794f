// find, as a person calls it.
#include <gtest/gtest.h>

#include "base/checksum.h"
#include "codec/codec.h"
#include "support/has.h"
#include "support/json.h"
#include "support/program.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

/// Four backups of a tide gauge: the log is in two, in one of them two containers deep.
void write_backups(const TempFolder& folder) {
  folder.write("shelf/02.zip", ZipBuilder().add("notes.txt", "cleaned\n").build());
  folder.write(
      "shelf/03.tar.gz",
      encode("gzip",
             TarBuilder().add({.name = "logs/tide.log", .data = to_bytes("low\n"), .mtime = 1000}).build()));
  Bytes inner =
      TarBuilder().add({.name = "gauge/tide.log", .data = to_bytes("low\nhigh\n"), .mtime = 2000}).build();
  folder.write("shelf/04.zip", ZipBuilder().stored("pc.tar.xz", encode("xz", inner)).build());
  folder.write("shelf/05.txt", "the tide.log is gone\n");
}

TEST(Find, PrintsLocatorsThatOtherCommandsTake) {
  TempFolder folder;
  write_backups(folder);
  Ran ran = operculum({"find", "shelf", "--match", "tide.log"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(ran.out, "shelf/03.tar.gz/logs/tide.log\nshelf/04.zip/pc.tar.xz/pc.tar/gauge/tide.log\n");
  EXPECT_EQ(operculum({"show", "shelf/04.zip/pc.tar.xz/pc.tar/gauge/tide.log"}, folder.path()).out,
            "low\nhigh\n");
  EXPECT_TRUE(has(ran.err, "2 finds in 2 of 4 files"));
}

TEST(Find, TellsVersionsAndTheNewest) {
  TempFolder folder;
  write_backups(folder);
  folder.write("shelf/06.tar",
               TarBuilder().add({.name = "tide.log", .data = to_bytes("low\n"), .mtime = 1500}).build());
  Ran newest = operculum({"find", "shelf", "--match", "tide.log", "--newest"}, folder.path());
  EXPECT_EQ(newest.out, "shelf/04.zip/pc.tar.xz/pc.tar/gauge/tide.log\n");
  Ran versions = operculum({"find", "shelf", "--match", "tide.log", "--versions", "--json"}, folder.path());
  auto first = parse_json(versions.out.substr(0, versions.out.find('\n')));
  std::string rest = versions.out.substr(versions.out.find('\n') + 1);
  auto second = parse_json(rest.substr(0, rest.find('\n')));
  EXPECT_EQ(first["newest"], true);
  EXPECT_EQ(first["size"], 9);
  EXPECT_EQ(second["newest"], false);
  EXPECT_EQ(second["time"], "1970-01-01T00:25:00Z");
  EXPECT_EQ(second["copies"], nlohmann::json({"shelf/06.tar/tide.log", "shelf/03.tar.gz/logs/tide.log"}));
  EXPECT_TRUE(has(operculum({"find", "shelf", "--match", "tide.log", "--versions"}, folder.path()).out,
                  "tide.log: 2 versions"));
}

TEST(Find, FindsTheSameBytesUnderAnyName) {
  TempFolder folder;
  write_backups(folder);
  folder.write("mine.txt", "low\nhigh\n");
  Ran ran = operculum({"find", "shelf", "mine.txt", "--like", "mine.txt"}, folder.path());
  EXPECT_EQ(ran.out, "shelf/04.zip/pc.tar.xz/pc.tar/gauge/tide.log\nmine.txt\n") << ran.err;
  std::string digest = sha256_hex(as_bytes("cleaned\n"));
  EXPECT_EQ(operculum({"find", "shelf", "--digest", digest}, folder.path()).out, "shelf/02.zip/notes.txt\n");
}

TEST(Find, DecodesNothingWhoseStoredChecksumSaysNo) {
  TempFolder folder;
  // Its data is broken: whoever decodes it fails.
  Bytes zip =
      ZipBuilder()
          .add({.name = "a.txt", .data = to_bytes("12345"), .stored = to_bytes("\xff\xff\xff"), .crc = 77})
          .build();
  folder.write("a.zip", ByteView(zip));
  folder.write("like", "12345");
  Ran like = operculum({"find", "a.zip", "--like", "like"}, folder.path());
  EXPECT_EQ(like.exit_code, 1);
  EXPECT_EQ(like.out + like.err.substr(0, 9), "operculum") << like.err;
  EXPECT_FALSE(has(like.err, "warning")) << like.err;
  EXPECT_EQ(operculum({"find", "a.zip", "--digest", "0000004d"}, folder.path()).out,
            "a.zip/a.txt\n");  // believed as stored
}

/// As long as the file that is looked for, without a checksum that speaks against it.
TEST(Find, TellsFilesThatOnlyLookAlike) {
  TempFolder folder;
  std::string wanted(300'000, 'x'), begins_alike = wanted, ends_alike = wanted;
  begins_alike.back() = ends_alike.front() = 'y';
  folder.write("a.tar", ByteView(TarBuilder()
                                     .file("begins.txt", begins_alike)
                                     .file("ends.txt", ends_alike)
                                     .file("same.txt", wanted)
                                     .file("longer.txt", wanted + "x")
                                     .build()));
  folder.write("like", wanted);
  Ran ran = operculum({"find", "a.tar", "--like", "like"}, folder.path());
  EXPECT_EQ(ran.out, "a.tar/same.txt\n") << ran.err;
  EXPECT_EQ(operculum({"find", "a.tar", "--like", "a.tar/begins.txt"}, folder.path()).out,
            "a.tar/begins.txt\n");
}

TEST(Find, LooksForSeveralFilesOfDifferentSizes) {
  TempFolder folder;
  write_backups(folder);
  folder.write("long", "low\nhigh\n");
  folder.write("short", "low\n");
  folder.write("other", "five\n");
  Ran both =
      operculum({"find", "shelf", "--like", "long", "--like", "short", "--like", "other"}, folder.path());
  EXPECT_EQ(both.out, "shelf/03.tar.gz/logs/tide.log\nshelf/04.zip/pc.tar.xz/pc.tar/gauge/tide.log\n");
  // A digest tells no size: that of a file that is looked for, too, must not shut it out.
  Ran mixed = operculum({"find", "shelf", "--digest", sha256_hex(as_bytes("cleaned\n")), "--like", "short"},
                        folder.path());
  EXPECT_EQ(mixed.out, "shelf/02.zip/notes.txt\nshelf/03.tar.gz/logs/tide.log\n");
}

TEST(Find, TellsDamageOfContainersItNeedNotLookInto) {
  TempFolder folder;
  Bytes zip = ZipBuilder().add("a.txt", "12345").build();
  zip[zip.size() - 12] = 7;  // the end record states seven entries
  folder.write("a.zip", ByteView(zip));
  folder.write("like", "1234");  // no entry has its size
  Ran ran = operculum({"find", "a.zip", "--like", "like"}, folder.path());
  EXPECT_EQ(ran.out, "");
  EXPECT_TRUE(has(ran.err, "the end record states 7 entries, the directory has 1")) << ran.err;
}

TEST(Find, SearchesTextsAndBytes) {
  TempFolder folder;
  write_backups(folder);
  Ran text = operculum({"find", "shelf", "--text", "HIGH", "--ignore-case"}, folder.path());
  EXPECT_EQ(text.out, "shelf/04.zip/pc.tar.xz/pc.tar/gauge/tide.log\n    line 2: high\n");
  EXPECT_EQ(operculum({"find", "shelf", "--text", "HIGH"}, folder.path()).exit_code, 1);
  Ran bytes =
      operculum({"find", "shelf", "--bytes", "68 69 67", "--match", "*.log", "--quiet"}, folder.path());
  EXPECT_EQ(bytes.out, "shelf/04.zip/pc.tar.xz/pc.tar/gauge/tide.log\n");
  Ran all = operculum({"find", "shelf/04.zip", "--text", "h", "--all-hits", "--json", "--match", "*.log"},
                      folder.path());
  auto record = parse_json(all.out.substr(0, all.out.find('\n')));
  EXPECT_EQ(record["hits"].size(), 2u);
  EXPECT_EQ(record["hits"][1]["at"], 7);
}

TEST(Find, HoldsAllConditionsTogether) {
  TempFolder folder;
  write_backups(folder);
  auto finds = [&](std::vector<std::string> words) {
    words.insert(words.begin(), {"find", "shelf", "--quiet"});
    return operculum(words, folder.path()).out;
  };
  EXPECT_EQ(finds({"--match", "*.log", "--size", "..8"}), "shelf/03.tar.gz/logs/tide.log\n");
  EXPECT_EQ(finds({"--match", "*.log", "--size", "9"}), "shelf/04.zip/pc.tar.xz/pc.tar/gauge/tide.log\n");
  EXPECT_EQ(finds({"--match", "*.log", "--newer", "1970-01-01T00:30:00Z"}),
            "shelf/04.zip/pc.tar.xz/pc.tar/gauge/tide.log\n");
  EXPECT_EQ(finds({"--match", "*.log", "--older", "1970-01-01T00:30:00Z"}),
            "shelf/03.tar.gz/logs/tide.log\n");
  EXPECT_EQ(finds({"--only-kind", "text", "--text", "gone"}), "shelf/05.txt\n");
  EXPECT_TRUE(
      finds({"--match", "pc.tar.xz"}).starts_with("shelf/04.zip/pc.tar.xz\n"));  // a container is a file, too
  EXPECT_EQ(finds({"--match", "tide.log", "--depth", "0"}), "shelf/03.tar.gz/logs/tide.log\n");
}

TEST(Find, LooksIntoFilesWhoseNamesDoNotSayThatTheyAreSomethingElse) {
  TempFolder folder;
  Bytes inner = ZipBuilder().add("tide.log", "low\n").build();
  folder.write("a.zip", ZipBuilder()
                            .add({.name = "tidepool.skin", .data = inner})
                            .add({.name = "picture.png", .data = inner})
                            .add({.name = "b.zip", .data = inner})
                            .build());
  auto finds = [&](const char* rule) {
    return operculum({"find", "a.zip", "--match", "tide.log", "--enter", rule}, folder.path()).out;
  };
  EXPECT_EQ(finds("named"), "a.zip/b.zip/tide.log\n");
  EXPECT_EQ(finds("likely"), "a.zip/tidepool.skin/tide.log\na.zip/b.zip/tide.log\n");
  EXPECT_EQ(finds("all"), "a.zip/tidepool.skin/tide.log\na.zip/picture.png/tide.log\na.zip/b.zip/tide.log\n");
}

TEST(Find, ADamagedContainerCostsOnlyItself) {
  TempFolder folder;
  write_backups(folder);
  std::string whole = folder.read("shelf/03.tar.gz");
  folder.write("shelf/03.tar.gz", whole.substr(0, whole.size() / 2));
  Ran ran = operculum({"find", "shelf", "--match", "tide.log"}, folder.path());
  EXPECT_TRUE(has(ran.out, "shelf/04.zip/pc.tar.xz/pc.tar/gauge/tide.log\n"));
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_TRUE(has(ran.err, "03.tar.gz")) << ran.err;
}

TEST(Find, GoesIntoFoldersOnlyWhenAsked) {
  TempFolder folder;
  folder.write("shelf/old/tide.log", "x");
  Ran flat = operculum({"find", "shelf", "--match", "*.log"}, folder.path());
  EXPECT_EQ(flat.out, "");
  EXPECT_TRUE(has(flat.err, "--recursive"));
  EXPECT_EQ(operculum({"find", "shelf", "--match", "*.log", "--recursive"}, folder.path()).out,
            "shelf/old/tide.log\n");
}

TEST(Find, WantsToKnowWhat) {
  TempFolder folder;
  folder.write("a", "x");
  EXPECT_EQ(operculum({"find", "a"}, folder.path()).exit_code, 2);
  EXPECT_EQ(operculum({"find", "a", "--digest", "12"}, folder.path()).exit_code, 2);
  EXPECT_EQ(operculum({"find", "a", "--newer", "2026-02-30"}, folder.path()).exit_code, 2);
  EXPECT_EQ(operculum({"find", "a", "--size", "big"}, folder.path()).exit_code, 2);
  EXPECT_EQ(operculum({"find", "a", "--bytes", "1"}, folder.path()).exit_code, 2);
}

TEST(Find, EndsAtTheFirstWhenOneIsEnough) {
  TempFolder folder;
  write_backups(folder);
  EXPECT_EQ(operculum({"find", "shelf", "--match", "tide.log", "--first", "--jobs", "4"}, folder.path()).out,
            "shelf/03.tar.gz/logs/tide.log\n");
}

TEST(Find, NamesFromContainersSteerNothing) {
  TempFolder folder;
  folder.write("a.zip", ZipBuilder().add("a\x1b[2J.log", "x\x1b[31m").build());
  Ran ran = operculum({"find", "a.zip", "--text", "x"}, folder.path());
  EXPECT_FALSE(has(ran.out + ran.err, "\x1b")) << ran.out;
  EXPECT_TRUE(has(ran.out, "a.zip/a\\x1b[2J.log"));
}

}  // namespace
}  // namespace operculum::test

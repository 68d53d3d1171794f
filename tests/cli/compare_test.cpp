// compare, as a person calls it.
#include <gtest/gtest.h>

#include "codec/codec.h"
#include "support/has.h"
#include "support/json.h"
#include "support/program.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

/// What happened to which path, a word each, from the records of --json.
std::string kinds(const std::string& json_lines) {
  std::string out;
  for (std::size_t at = 0; at < json_lines.size();) {
    std::size_t end = json_lines.find('\n', at);
    auto record = parse_json(json_lines.substr(at, end - at));
    at = end + 1;
    if (record["record"] != "difference") continue;
    out += std::string(record["kind"]) + " " + std::string(record["path"]);
    if (record.contains("new_path")) out += ">" + std::string(record["new_path"]);
    out += "; ";
  }
  return out;
}

ZipBuilder first_build() {
  return ZipBuilder()
      .folder("textures")
      .add("textures/crab.txt", "red crab\n")
      .add("scripts/tide.lua", "one\ntwo\nthree\n")
      .add("credits.txt", "Made for the hall.\n")
      .add("old.txt", "to be dropped");
}

TEST(Compare, TellsEveryKindOfDifferenceWhateverThePacking) {
  TempFolder folder;
  folder.write("a.zip", first_build().build());
  Bytes after = TarBuilder()
                    .file("new.txt", "quite new")
                    .file("docs/credits.txt", "Made for the hall.\n")
                    .file("scripts/tide.lua", "one\n2\nthree\n")
                    .file("textures/crab.txt", "red crab\n")
                    .build();
  folder.write("b.tar", after);
  folder.write("b.tar.gz", encode("gzip", after));  // can only be read from its start
  for (std::string b : {"b.tar", "b.tar.gz"}) {
    Ran ran = operculum({"compare", "a.zip", b, "--json"}, folder.path());
    EXPECT_EQ(ran.exit_code, 1) << ran.err;
    EXPECT_EQ(
        kinds(ran.out),
        "changed scripts/tide.lua; moved credits.txt>docs/credits.txt; removed old.txt; added new.txt; ")
        << b;
    Ran text = operculum({"compare", "a.zip", b}, folder.path());
    EXPECT_TRUE(has(text.out,
                    "@@ -1,3 +1,3 @@\n            one\n           -two\n           +2\n            three\n"))
        << text.out;
    EXPECT_TRUE(has(text.out, "1 the same, 1 changed, 1 moved, 1 added, 1 removed."));
  }
}

TEST(Compare, SaysByItsExitCodeThatAllIsTheSame) {
  TempFolder folder;
  folder.write("a.zip", first_build().build());
  folder.write("b/textures/crab.txt", "red crab\n");
  folder.write("b/scripts/tide.lua", "one\ntwo\nthree\n");
  folder.write("b/credits.txt", "Made for the hall.\n");
  folder.write("b/old.txt", "to be dropped");
  Ran ran = operculum({"compare", "a.zip", "b"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.out << ran.err;
  EXPECT_EQ(ran.out, "a.zip and b: 4 the same.\n");
  EXPECT_EQ(operculum({"compare", "a.zip", "b", "--content", "--quiet"}, folder.path()).out, "");
}

TEST(Compare, BelievesStoredChecksumsUnlessTheBytesAreAskedFor) {
  TempFolder folder;
  folder.write("a.zip", ZipBuilder().add({.name = "log", .data = to_bytes("12345"), .crc = 7}).build());
  folder.write("b.zip", ZipBuilder().add({.name = "log", .data = to_bytes("1234x"), .crc = 7}).build());
  EXPECT_EQ(operculum({"compare", "a.zip", "b.zip"}, folder.path()).exit_code, 0);  // nothing was decoded
  Ran ran = operculum({"compare", "a.zip", "b.zip", "--content"}, folder.path());
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_TRUE(has(ran.out, "unreadable")) << ran.out;  // neither fits its checksum
}

TEST(Compare, ShowsTheFirstBytesThatDiffer) {
  TempFolder folder;
  Bytes before(64, 0), after(64, 0);
  before[40] = 'A';
  after[40] = 'B';
  folder.write("a.zip", ZipBuilder().stored("pool.bin", before).build());
  folder.write("b.zip", ZipBuilder().stored("pool.bin", after).build());
  Ran ran = operculum({"compare", "a.zip", "b.zip"}, folder.path());
  EXPECT_TRUE(
      has(ran.out, "changed    pool.bin: 64 bytes; 1 byte differs in 1 range, the first at offset 0x28"))
      << ran.out;
  EXPECT_TRUE(has(ran.out, "00000028  41 00 00 00 00 00 00 00  A.......   42 00 00 00 00 00 00 00  B......."))
      << ran.out;
}

TEST(Compare, GoesIntoContainersThatDiffer) {
  TempFolder folder;
  auto outer = [](std::string_view text) {
    Bytes inner = ZipBuilder().add("same.txt", "same").add("deep.txt", text).build();
    return TarBuilder().add({.name = "packs/inner.zip", .data = inner}).file("x", "x").build();
  };
  folder.write("a.tar.gz", encode("gzip", outer("low water\n")));
  folder.write("b.tar.gz", encode("gzip", outer("high water\n")));
  Ran flat = operculum({"compare", "a.tar.gz", "b.tar.gz", "--json"}, folder.path());
  EXPECT_EQ(kinds(flat.out), "changed packs/inner.zip; ");
  EXPECT_TRUE(has(operculum({"compare", "a.tar.gz", "b.tar.gz"}, folder.path()).err,
                  "--deep compares what is in them"));
  Ran deep = operculum({"compare", "--deep", "a.tar.gz", "b.tar.gz", "--json"}, folder.path());
  EXPECT_EQ(kinds(deep.out), "changed packs/inner.zip/deep.txt; ") << deep.err;
}

TEST(Compare, ComparesSingleFilesWithinContainers) {
  TempFolder folder;
  folder.write("a.zip", ZipBuilder().add("v1/log.txt", "1\n2\n").build());
  folder.write("log.txt", "1\n3\n");
  Ran ran = operculum({"compare", "a.zip/v1/log.txt", "log.txt"}, folder.path());
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_TRUE(has(ran.out, "-2")) << ran.out;
  EXPECT_TRUE(has(ran.out, "+3"));
  folder.write("log.txt.gz", encode("gzip", to_bytes("1\n2\n")));
  EXPECT_EQ(operculum({"compare", "a.zip/v1/log.txt", "log.txt.gz"}, folder.path()).exit_code, 0);
}

TEST(Compare, TellsMetadataOnlyWhenAsked) {
  TempFolder folder;
  folder.write("a.zip",
               ZipBuilder()
                   .add({.name = "run", .data = to_bytes("x"), .unix_mode = 0100644, .comment = "old"})
                   .build());
  folder.write("b.zip", ZipBuilder()
                            .add({.name = "run",
                                  .data = to_bytes("x"),
                                  .codec = "stored",
                                  .method = 0,
                                  .unix_mode = 0100755,
                                  .comment = "new",
                                  .time = (15 << 11)})
                            .build());
  EXPECT_EQ(operculum({"compare", "a.zip", "b.zip"}, folder.path()).exit_code, 0);
  Ran ran = operculum({"compare", "a.zip", "b.zip", "--metadata"}, folder.path());
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_TRUE(has(
      ran.out,
      "metadata   run: time 2026-03-01 14:05:08 to 2026-03-01 15:00:00; mode 0644 to 0755; method deflate "
      "to stored; comment old to new"))
      << ran.out;
}

TEST(Compare, TellsAnotherOrder) {
  TempFolder folder;
  folder.write("a.zip", ZipBuilder().add("1", "one").add("2", "two").build());
  folder.write("b.zip", ZipBuilder().add("2", "two").add("1", "one").build());
  EXPECT_EQ(operculum({"compare", "a.zip", "b.zip"}, folder.path()).exit_code, 0);
  EXPECT_TRUE(
      has(operculum({"compare", "a.zip", "b.zip", "--metadata"}, folder.path()).out, "in another order"));
}

TEST(Compare, TellsLinksThatLeadElsewhere) {
  TempFolder folder;
  folder.write("a.tar", TarBuilder().symbolic("latest", "kiosk-1").file("f", "x").hard("g", "f").build());
  folder.write("b.tar", TarBuilder().symbolic("latest", "kiosk-2").file("g", "x").hard("f", "g").build());
  Ran ran = operculum({"compare", "a.tar", "b.tar"}, folder.path());
  EXPECT_TRUE(has(ran.out, "changed    latest: led to \"kiosk-1\", leads to \"kiosk-2\"")) << ran.out;
  EXPECT_TRUE(has(ran.out, "2 the same, 1 changed."))
      << ran.out;  // which of two names is the link says nothing
}

TEST(Compare, OneDamagedEntryCostsNoOther) {
  TempFolder folder;
  folder.write("a.zip", ZipBuilder().add("bad", "12345").add("good", "1\n").build());
  folder.write("b/bad", "12345");
  folder.write("b/good", "2\n");
  Bytes zip =
      ZipBuilder().add({.name = "bad", .data = to_bytes("12345"), .crc = 1}).add("good", "1\n").build();
  folder.write("a.zip", ByteView(zip));
  Ran ran = operculum({"compare", "a.zip", "b", "--content", "--json"}, folder.path());
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_EQ(kinds(ran.out), "unreadable bad; changed good; ");
}

TEST(Compare, WantsThePasswordAndSaysSo) {
  TempFolder folder;
  auto locked = [](std::string_view text) {
    return ZipBuilder()
        .add({.name = "key.txt", .data = to_bytes(text), .password = "tide", .aes_strength = 3})
        .build();
  };
  folder.write("a.zip", locked("12345"));
  folder.write("b.zip", locked("1234x"));
  EXPECT_EQ(operculum({"compare", "a.zip", "b.zip"}, folder.path()).exit_code, 4);
  Ran ran =
      operculum({"compare", "a.zip", "b.zip", "--json"}, folder.path(), {{"OPERCULUM_PASSWORD", "tide"}});
  EXPECT_EQ(kinds(ran.out), "changed key.txt; ") << ran.err;
}

TEST(Compare, WritesAPageAndNothingElse) {
  TempFolder folder;
  folder.write("a.zip", ZipBuilder().add("<b>.txt", "1\n<script>\n").add("d", "12345678").build());
  folder.write(
      "b.zip",
      ZipBuilder().add("<b>.txt", "1\n<style>\n").add("d", std::string_view("1234567\0", 8)).build());
  Ran ran = operculum({"compare", "a.zip", "b.zip", "--summary", "--page", "page.html"}, folder.path());
  EXPECT_EQ(ran.out, "a.zip and b.zip: 0 the same, 2 changed.\n");
  std::string page = folder.read("page.html");
  EXPECT_TRUE(has(page, "&lt;b&gt;.txt"));
  EXPECT_TRUE(has(page, "<span class=\"minus\">-&lt;script&gt;</span>"));
  EXPECT_FALSE(has(page, "<script>"));
  EXPECT_TRUE(has(page, "<svg class=\"strip\""));
  EXPECT_EQ(folder.listing(), "a.zip b.zip page.html");
}

TEST(Compare, SaysWhichOfTheTwoCannotBeOpened) {
  TempFolder folder;
  folder.write("a.zip", ZipBuilder().add("x", "1").build());
  Ran ran = operculum({"compare", "a.zip", "gone.zip"}, folder.path());
  EXPECT_EQ(ran.exit_code, 3);
  EXPECT_TRUE(has(ran.err, "gone.zip")) << ran.err;
}

TEST(Compare, HoldsAThousandMovedFilesOfOneSizeApart) {
  TempFolder folder;
  ZipBuilder before, after;
  for (int i = 0; i < 1000; ++i) {
    std::string data = std::to_string(10000 + i);
    before.add("old/" + std::to_string(i), data);
    after.add("new/" + std::to_string(999 - i), data);
  }
  folder.write("a.zip", before.build());
  folder.write("b.zip", after.build());
  Ran ran = operculum({"compare", "a.zip", "b.zip"}, folder.path());
  EXPECT_TRUE(has(ran.out, "old/0 -> new/999")) << ran.out.substr(0, 400);
  EXPECT_TRUE(has(ran.out, "0 the same, 1,000 moved.")) << ran.out.substr(ran.out.size() - 200);
}

}  // namespace
}  // namespace operculum::test

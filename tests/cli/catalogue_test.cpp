// catalogue, and what answers from it, as a person calls it.
#include <gtest/gtest.h>

#include <filesystem>

#include "codec/codec.h"
#include "support/has.h"
#include "support/json.h"
#include "support/program.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

nlohmann::json json_of(const Ran& ran) {
  return parse_json(ran.out.substr(0, ran.out.find('\n')));
}

/// A shelf with an archive, one with a nested container, a file that nothing opens, and a damaged one.
void write_shelf(const TempFolder& folder) {
  folder.write("shelf/a.zip",
               ZipBuilder().add("logs/tide.log", "low\n").add("same.bin", "0123456789").build());
  Bytes inner =
      TarBuilder().add({.name = "tide.log", .data = to_bytes("low\nhigh\n"), .mtime = 2000}).build();
  folder.write("shelf/sub/b.zip",
               ZipBuilder().stored("pc.tar.gz", encode("gzip", inner)).add("copy.bin", "0123456789").build());
  folder.write("shelf/odd.blob", std::string_view("\x01\x02\x00\xff\xfe\x80\x81\x90 what?", 15));
}

TEST(Catalogue, KnowsEverythingAtAllDepthsAndReadsNothingTwice) {
  TempFolder folder;
  write_shelf(folder);
  Ran first = operculum({"catalogue", "shelf.db", "shelf", "--json"}, folder.path());
  EXPECT_EQ(first.exit_code, 0) << first.err;
  EXPECT_EQ(json_of(first)["files"], 3);
  EXPECT_EQ(json_of(first)["read"], 3);
  EXPECT_EQ(json_of(first)["entries"], 6);  // the packed archive, the archive, and what is in it
  Ran again = operculum({"catalogue", "shelf.db", "shelf", "--json"}, folder.path());
  EXPECT_EQ(json_of(again)["unchanged"], 3);
  EXPECT_EQ(json_of(again)["read"], 0);
  EXPECT_EQ(json_of(operculum({"catalogue", "report", "shelf.db", "--json"}, folder.path()))["entries"], 6);
}

TEST(Catalogue, KeepsUpWithTheShelf) {
  TempFolder folder;
  write_shelf(folder);
  operculum({"catalogue", "shelf.db", "shelf"}, folder.path());
  folder.write("shelf/a.zip", ZipBuilder().add("new.txt", "other").build());
  std::filesystem::remove(folder.path("shelf/sub/b.zip"));
  Ran ran = operculum({"catalogue", "shelf.db", "shelf", "--json"}, folder.path());
  EXPECT_EQ(json_of(ran)["read"], 1);
  EXPECT_EQ(json_of(ran)["gone"], 1);
  Ran report = operculum({"catalogue", "report", "shelf.db", "--json"}, folder.path());
  EXPECT_EQ(json_of(report)["entries"], 1);
  EXPECT_EQ(json_of(report)["duplicate_contents"], 0);  // one copy changed, the other is gone
  EXPECT_EQ(operculum({"find", "--catalogue", "shelf.db", "--match", "*.bin"}, folder.path()).exit_code, 1);
}

TEST(Catalogue, AnswersFindWithLocatorsThatOpen) {
  TempFolder folder;
  write_shelf(folder);
  operculum({"catalogue", "shelf.db", "shelf", "--digests"}, folder.path());
  Ran ran = operculum({"find", "--catalogue", "shelf.db", "--match", "tide.log", "--newest"}, folder.path());
  std::string newest = ran.out.substr(0, ran.out.find('\n'));
  EXPECT_TRUE(newest.ends_with("shelf/a.zip/logs/tide.log")) << ran.out << ran.err;
  EXPECT_EQ(operculum({"show", newest}, folder.path()).out, "low\n");
  Ran both =
      operculum({"find", "--catalogue", "shelf.db", "--match", "tide.log", "--size", "9"}, folder.path());
  EXPECT_TRUE(has(both.out, "b.zip/pc.tar.gz/pc.tar/tide.log")) << both.out;
  EXPECT_FALSE(has(both.out, "a.zip"));
  folder.write("mine", "low\nhigh\n");
  EXPECT_TRUE(has(operculum({"find", "--catalogue", "shelf.db", "--like", "mine"}, folder.path()).out,
                  "pc.tar.gz/pc.tar/tide.log"));
  Ran text = operculum({"find", "--catalogue", "shelf.db", "--text", "low"}, folder.path());
  EXPECT_EQ(text.exit_code, 3);
  EXPECT_TRUE(has(text.err, "does not know contents"));
  Ran sha1 = operculum({"find", "--catalogue", "shelf.db", "--digest", std::string(40, '0')}, folder.path());
  EXPECT_EQ(sha1.exit_code, 3);
  EXPECT_TRUE(has(sha1.err, "in a catalogue, which knows CRC-32 and SHA-256")) << sha1.err;
  EXPECT_EQ(operculum({"find", "shelf", "--catalogue", "shelf.db", "--match", "x"}, folder.path()).exit_code,
            2);
}

TEST(Catalogue, AnswersCompare) {
  TempFolder folder;
  folder.write("1.zip", ZipBuilder().add("a", "1").add("b", "22").add("c", "333").build());
  folder.write("2.zip", ZipBuilder().add("a", "1").add("b", "33").add("d", "333").build());
  operculum({"catalogue", "c.db", "1.zip", "2.zip"}, folder.path());
  std::filesystem::remove(folder.path("2.zip"));
  folder.write("2.zip", "");  // neither is read
  Ran ran = operculum({"compare", "--catalogue", "c.db", "1.zip", "2.zip"}, folder.path());
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_TRUE(has(ran.out, "changed    b")) << ran.out << ran.err;
  EXPECT_TRUE(has(ran.out, "moved      c -> d"));
  EXPECT_TRUE(has(ran.out, "1 the same, 1 changed, 1 moved."));
  EXPECT_EQ(operculum({"compare", "--catalogue", "c.db", "1.zip", "3.zip"}, folder.path()).exit_code, 3);
}

TEST(Catalogue, RemembersWhatWasVerified) {
  TempFolder folder;
  write_shelf(folder);
  folder.write("shelf/bad.zip", ZipBuilder().add({.name = "x", .data = to_bytes("12345"), .crc = 7}).build());
  Ran first = operculum({"catalogue", "shelf.db", "shelf", "--verify", "--json"}, folder.path());
  EXPECT_EQ(first.exit_code, 1);
  EXPECT_TRUE(has(first.err, "bad.zip")) << first.err;
  Ran report = operculum({"catalogue", "report", "shelf.db", "--json"}, folder.path());
  EXPECT_EQ(json_of(report)["verified"], 2);
  EXPECT_EQ(json_of(report)["faulty"], 1);
  Ran again = operculum({"catalogue", "shelf.db", "shelf", "--verify", "--json"}, folder.path());
  EXPECT_EQ(json_of(again)["read"], 0);
}

TEST(Catalogue, ReportsCopiesDamageAndWhatNothingOpens) {
  TempFolder folder;
  write_shelf(folder);
  folder.write("shelf/cut.zip", "PK\x03\x04 and then nothing");
  operculum({"catalogue", "shelf.db", "shelf"}, folder.path());
  Ran text = operculum({"catalogue", "report", "shelf.db"}, folder.path());
  EXPECT_TRUE(has(text.out, "What is there more than once: 10 B in 1 content")) << text.out;
  EXPECT_TRUE(has(text.out, ".blob"));
  Ran csv = operculum({"catalogue", "report", "shelf.db", "--csv"}, folder.path());
  EXPECT_TRUE(has(csv.out, "section,name,count,bytes,note\r\n"));
  Ran page = operculum({"catalogue", "report", "shelf.db", "--page", "shelf.html"}, folder.path());
  EXPECT_TRUE(has(folder.read("shelf.html"), "<svg class=\"bars\""));
  EXPECT_TRUE(has(folder.read("shelf.html"), "ZIP archive"));
}

TEST(Catalogue, SharesAreMergedToTheSameWhole) {
  TempFolder folder;
  write_shelf(folder);
  for (int i = 0; i < 20; ++i)
    folder.write(
        "shelf/n" + std::to_string(i) + ".zip",
        ZipBuilder().add("same.bin", "0123456789").add(std::to_string(i), std::to_string(i * 1000)).build());
  operculum({"catalogue", "whole.db", "shelf"}, folder.path());
  int files = 0;
  for (std::string shard : {"1", "2", "3"}) {
    Ran ran =
        operculum({"catalogue", shard + ".db", "shelf", "--shard", shard + "/3", "--json"}, folder.path());
    int own = json_of(ran)["files"];
    EXPECT_LT(own, 23);  // which files a share has depends on where the folder lies
    files += own;
  }
  EXPECT_EQ(files, 23);
  Ran merge = operculum({"catalogue", "merge", "all.db", "1.db", "2.db", "3.db", "2.db"}, folder.path());
  EXPECT_EQ(merge.exit_code, 0) << merge.err;
  auto report = [&](const char* database) {
    return json_of(operculum({"catalogue", "report", database, "--json"}, folder.path()));
  };
  auto whole = report("whole.db"), all = report("all.db");
  for (const char* field : {"files", "bytes", "entries", "unpacked", "duplicate_contents", "duplicate_cost"})
    EXPECT_EQ(whole[field], all[field]) << field;
  EXPECT_EQ(operculum({"find", "--catalogue", "whole.db", "--match", "*"}, folder.path()).out,
            operculum({"find", "--catalogue", "all.db", "--match", "*"}, folder.path()).out);
  EXPECT_EQ(operculum({"catalogue", "x.db", "shelf", "--shard", "4/3"}, folder.path()).exit_code, 2);
}

TEST(Catalogue, TouchesNoFileThatIsNone) {
  TempFolder folder;
  folder.write("notes.txt", "not a database");
  folder.write("shelf/a.txt", "x");
  EXPECT_EQ(operculum({"catalogue", "notes.txt", "shelf"}, folder.path()).exit_code, 3);
  EXPECT_EQ(folder.read("notes.txt"), "not a database");
  EXPECT_EQ(operculum({"catalogue", "report", "gone.db"}, folder.path()).exit_code, 3);
  EXPECT_FALSE(folder.has("gone.db"));
  EXPECT_EQ(operculum({"catalogue", "a.db", "gone-shelf"}, folder.path()).exit_code, 3);
  EXPECT_EQ(operculum({"catalogue"}, folder.path()).exit_code, 2);
}

TEST(Catalogue, TheCatalogueInTheShelfIsNoPartOfIt) {
  TempFolder folder;
  folder.write("shelf/a.txt", "x");
  operculum({"catalogue", "shelf/own.db", "shelf"}, folder.path());
  EXPECT_EQ(json_of(operculum({"catalogue", "shelf/own.db", "shelf", "--json"}, folder.path()))["files"], 1);
}

}  // namespace
}  // namespace operculum::test

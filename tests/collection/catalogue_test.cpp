#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/error.h"
#include "collection/catalogue/merge.h"
#include "collection/catalogue/update.h"
#include "collection/catalogue/writer.h"
#include "support/refusal.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

/// A catalogue in a folder of its own.
struct Kept {
  TempFolder folder;
  OpenContext context;
  Progress progress;
  std::unique_ptr<Database> database = open_catalogue(folder.path("c.db"), Database::Mode::create);

  CatalogueTotals update(std::vector<std::string> files, const CatalogueRequest& request = {}) {
    return update_catalogue(*database, {folder.path()}, std::move(files), request, context, progress,
                            [](const std::string&, const std::string&) {});
  }
  std::int64_t count(const std::string& of) { return database->number("SELECT count(*) FROM " + of); }
};

TEST(CatalogueUpdate, ReadsAgainWhatWasInterrupted) {
  Kept kept;
  std::string zip = kept.folder.write("a.zip", ZipBuilder().add("x", "12345").add("y", "12345").build());
  {
    CatalogueWriter writer(*kept.database);  // as a run that is killed in the middle leaves it
    std::int64_t row = writer.begin({zip, 1, 2, 3});
    writer.add(row, {{.path = "x", .size = 5, .format = "zip", .crc32 = 1}});
  }
  EXPECT_EQ(kept.update({zip}).read, 1u);
  EXPECT_EQ(kept.count("entry"), 2);
  EXPECT_EQ(kept.database->number("SELECT copies FROM content WHERE copies > 0"), 2);
  EXPECT_EQ(kept.update({zip}).unchanged, 1u);
}

TEST(CatalogueUpdate, StopsWhereItIsToldTo) {
  Kept kept;
  std::string zip = kept.folder.write("a.zip", ZipBuilder().add("x", "12345").build());
  kept.progress.stop = true;
  EXPECT_TRUE(kept.update({zip}).stopped);
  EXPECT_EQ(kept.count("entry"), 0);
  kept.progress.stop = false;
  EXPECT_EQ(kept.update({zip}).read, 1u);
}

TEST(CatalogueUpdate, TakesDigestsThatWereNotTakenBefore) {
  Kept kept;
  std::string zip = kept.folder.write("a.zip", ZipBuilder().add("x", "12345").build());
  kept.update({zip});
  EXPECT_EQ(kept.count("content WHERE sha256 <> x''"), 0);
  EXPECT_EQ(kept.update({zip}, {.digests = true}).read, 1u);
  EXPECT_EQ(kept.count("content WHERE sha256 <> x'' AND copies = 1"), 1);
  EXPECT_EQ(kept.update({zip}).unchanged, 1u);  // what is known stays
}

TEST(CatalogueWriter, WhatIsCommittedOthersSeeWhileItGoesOn) {
  Kept kept;
  CatalogueWriter writer(*kept.database);
  std::int64_t row = writer.begin({"/shelf/a.zip", 1, 2, 3});
  writer.finish(row, {.state = kListed, .format = "zip"});
  writer.verified(row, "whole", "");
  writer.commit();
  auto other = open_catalogue(kept.folder.path("c.db"), Database::Mode::read);
  EXPECT_EQ(other->number("SELECT count(*) FROM file WHERE verified = 'whole'"), 1);
}

TEST(CatalogueShard, EachFileBelongsToExactlyOne) {
  int most = 0;
  std::vector<int> sizes(7);
  for (int file = 0; file < 7000; ++file) {
    std::string path = "/shelf/" + std::to_string(file) + ".zip";
    int owners = 0;
    for (std::uint64_t index = 1; index <= 7; ++index) {
      if (!Shard{index, 7}.has(path)) continue;
      ++owners;
      most = std::max(most, ++sizes[index - 1]);
    }
    ASSERT_EQ(owners, 1) << path;
  }
  EXPECT_LT(most, 1200);  // about as many in each
}

TEST(CatalogueMerge, TheNewerReadingStays) {
  Kept ours, theirs;
  auto put = [](Kept& kept, const char* name, int read_at) {
    CatalogueWriter writer(*kept.database);
    std::int64_t row = writer.begin({"/shelf/a.zip", 1, 2, 3});
    writer.add(row, {{.path = name, .size = 5, .format = "zip", .crc32 = 1}});
    writer.finish(row, {.state = kListed, .format = "zip", .entries = 1});
    kept.database->execute("UPDATE file SET read_at = " + std::to_string(read_at));
  };
  put(ours, "old", 100);
  put(theirs, "new", 200);
  CatalogueMerge merge(*ours.database);
  MergeTotals taken = merge.take(theirs.folder.path("c.db"));
  EXPECT_EQ(taken.files, 1u);
  EXPECT_EQ(ours.database->number("SELECT count(*) FROM entries WHERE path = 'new'"), 1);
  EXPECT_EQ(ours.count("entry"), 1);
  EXPECT_EQ(ours.database->number("SELECT sum(copies) FROM content"), 1);
  MergeTotals again = merge.take(theirs.folder.path("c.db"));
  EXPECT_EQ(again.files, 0u);
  EXPECT_EQ(again.kept, 1u);
  EXPECT_REFUSAL(merge.take(ours.folder.path("none.db")), Error, "none.db: unable to open database file");
}

TEST(CatalogueMerge, TakesIndexesAwayWhereMuchComesAndMakesThemOnce) {
  Kept much, little, ours;
  auto put = [](Kept& kept, const std::string& path, int entries) {
    CatalogueWriter writer(*kept.database);
    std::int64_t row = writer.begin({path, 1, 2, 3});
    writer.add(row, {{.path = "logs/tide.log", .size = 5, .format = "zip", .crc32 = 1}});
    writer.finish(row, {.state = kListed, .format = "zip", .entries = 1});
    kept.database->execute(fmt::format(
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {}) INSERT INTO "
        "entry(file_id, "
        "folder_id, name_id, kind, size, depth, format, content_id) SELECT file_id, folder_id, name_id, "
        "kind, i, "
        "depth, format, content_id FROM entry, n; UPDATE content SET copies = (SELECT count(*) FROM entry)",
        entries));
  };
  put(much, "/shelf/a.zip", 100'001);
  put(little, "/shelf/b.zip", 3);
  auto indexes = [&] {
    return ours.database->number(
        "SELECT count(*) FROM sqlite_schema WHERE type = 'index' AND sql IS NOT NULL");
  };
  std::int64_t all = indexes();
  CatalogueMerge merge(*ours.database);
  EXPECT_EQ(merge.take(much.folder.path("c.db")).entries, 100'002u);
  EXPECT_LT(indexes(), all);
  EXPECT_EQ(merge.take(little.folder.path("c.db")).entries, 4u);
  merge.take(little.folder.path("c.db"));
  EXPECT_LT(indexes(), all);
  merge.finish();
  EXPECT_EQ(indexes(), all);
  EXPECT_EQ(ours.count("entry"), 100'006);
  EXPECT_EQ(ours.count("content"), 1);
  EXPECT_EQ(ours.database->number("SELECT copies FROM content"), 100'006);
  // A merge that did not come to its end.
  drop_indexes(*ours.database);
  open_catalogue(ours.folder.path("c.db"), Database::Mode::create);
  EXPECT_EQ(indexes(), all);
}

TEST(CatalogueSchema, RefusesWhatIsNoCatalogue) {
  TempFolder folder;
  { Database(folder.path("other.db"), Database::Mode::create).execute("CREATE TABLE t(a)"); }
  EXPECT_REFUSAL(open_catalogue(folder.path("other.db"), Database::Mode::create), Malformed,
                 "is no catalogue; `operculum catalogue` makes one in a new file");
  open_catalogue(folder.path("c.db"), Database::Mode::create)->execute("PRAGMA user_version = 99");
  EXPECT_REFUSAL(open_catalogue(folder.path("c.db"), Database::Mode::read), Malformed,
                 "is a catalogue of version 99, and this program knows version 1");
}

}  // namespace
}  // namespace operculum::test

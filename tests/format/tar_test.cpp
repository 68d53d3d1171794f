#include <fmt/format.h>
#include <gtest/gtest.h>

#include <atomic>
#include <cstring>

#include "format/archive/tar_pax.h"
#include "io/block_source.h"
#include "support/open.h"
#include "support/program.h"
#include "support/refusal.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

using namespace test;

TEST(Tar, ReadsV7UstarAndGnuHeaders) {
  for (TarStyle style : {TarStyle::v7, TarStyle::ustar, TarStyle::gnu}) {
    Held tar = open_bytes(TarBuilder(style)
                              .folder("pool")
                              .file("pool/crab.txt", "pinch")
                              .symbolic("pool/latest", "crab.txt")
                              .hard("pool/twin", "pool/crab.txt")
                              .build());
    EXPECT_EQ(tar.format(), "tar");
    EXPECT_EQ(paths_of(*tar), "pool pool/crab.txt pool/latest pool/twin");
    EXPECT_EQ(text_at(*tar, "pool/crab.txt"), "pinch");
    EXPECT_EQ(entry_at(*tar, "pool").kind, EntryKind::folder);
    EXPECT_EQ(entry_at(*tar, "pool/latest").link_target(), "crab.txt");
    EXPECT_EQ(entry_at(*tar, "pool/twin").kind, EntryKind::hard_link);
    EXPECT_EQ(entry_at(*tar, "pool/crab.txt").mode, 0644u);
    EXPECT_EQ(to_text(entry_at(*tar, "pool/crab.txt").modified), "2026-03-01 14:05:08Z");
  }
}

TEST(Tar, JoinsThePrefixOfUstar) {
  EXPECT_EQ(paths_of(*open_bytes(TarBuilder().add({.name = "crab.txt", .prefix = "exhibits/pool"}).build())),
            "exhibits/pool/crab.txt");
}

TEST(Tar, JoinsAPrefixThatAWriterPutIntoTheGnuVariant) {
  TarItem item{.name = "crab.txt", .prefix = "exhibits/pool"};
  EXPECT_EQ(paths_of(*open_bytes(TarBuilder(TarStyle::gnu).add(item).build())), "exhibits/pool/crab.txt");
  item.prefix = "14571034764";  // the time of the last access, which belongs there
  EXPECT_EQ(paths_of(*open_bytes(TarBuilder(TarStyle::gnu).add(item).build())), "crab.txt");
}

TEST(Tar, ListsDevicesAndFifos) {
  Held tar = open_bytes(TarBuilder()
                            .add({.name = "gauge", .typeflag = '3', .device_major = 4, .device_minor = 64})
                            .add({.name = "pipe", .typeflag = '6'})
                            .add({.name = "disk", .typeflag = '4'})
                            .build());
  EXPECT_EQ(entry_at(*tar, "gauge").kind, EntryKind::character_device);
  EXPECT_EQ(entry_at(*tar, "gauge").extra->device_minor, 64u);
  EXPECT_EQ(entry_at(*tar, "pipe").kind, EntryKind::fifo);
  EXPECT_EQ(entry_at(*tar, "disk").kind, EntryKind::block_device);
}

TEST(Tar, ReadsGnuLongNamesAndLinks) {
  std::string name(300, 'n'), link(200, 'l');
  Held tar = open_bytes(TarBuilder(TarStyle::gnu)
                            .add({.name = "././@LongLink", .data = to_bytes(link + '\0'), .typeflag = 'K'})
                            .add({.name = "././@LongLink", .data = to_bytes(name + '\0'), .typeflag = 'L'})
                            .symbolic(name.substr(0, 100), link.substr(0, 100))
                            .file("next", "x")
                            .build());
  EXPECT_EQ(paths_of(*tar), name + " next");
  EXPECT_EQ(tar->entries()[0].link_target(), link);
}

TEST(Tar, ReadsBase256Numbers) {
  Held tar = open_bytes(TarBuilder(TarStyle::gnu)
                            .add({.name = "old", .data = to_bytes("x"), .mtime = -86400})
                            .add({.name = "late", .mtime = 0x2fffffffff})
                            .build());
  EXPECT_EQ(to_text(entry_at(*tar, "old").modified), "1969-12-31 00:00:00Z");
  EXPECT_EQ(entry_at(*tar, "late").modified.seconds, 0x2fffffffff);
}

TEST(Tar, ReadsPaxRecordsOfOneEntryAndOfAll) {
  Held tar = open_bytes(TarBuilder()
                            .pax({{"mtime", "1000.5"}, {"uname", "warden"}}, 'g')
                            .pax({{"path", "Muschelbänke/貝.txt"}, {"mtime", "2000.000000007"}})
                            .file("short", "pearl")
                            .file("plain", "sand")
                            .build());
  EXPECT_EQ(paths_of(*tar), "Muschelbänke/貝.txt plain");
  EXPECT_EQ(tar->entries()[0].modified, from_unix(2000, 7));
  EXPECT_EQ(tar->entries()[1].modified, from_unix(1000, 500'000'000)) << "the global one holds again";
  EXPECT_EQ(tar->entries()[1].extra->owner, "warden");
  EXPECT_EQ(text_of(*tar, 0), "pearl");
}

TEST(Tar, TakesTheSizeFromPax) {
  // The header says 0, the record 5: how sizes of 8 GiB and more are written.
  Bytes header = TarBuilder::header({.name = "large"}, 0, TarStyle::ustar);
  Held tar = open_bytes(
      TarBuilder().pax({{"size", "5"}}).raw(header).raw(to_bytes("pinch")).file("next", "x").build());
  EXPECT_EQ(text_at(*tar, "large"), "pinch");
  EXPECT_EQ(text_at(*tar, "next"), "x");
}

const std::string kSparse = std::string(1000, '\0') + "tide" + std::string(2000, '\0') + "pool" +
                            std::string(92, '\0');  // 3100 bytes

TEST(Tar, ReadsOldGnuSparseFiles) {
  ByteWriter map;
  map.zeros(386 - 345);
  for (auto [at, length] : {std::pair{1000, 4}, std::pair{3004, 4}, std::pair{3100, 0}, std::pair{0, 0}}) {
    if (at == 0) {
      map.zeros(24);
    } else {
      map.text(fmt::format("{:011o}", at)).u8(0).text(fmt::format("{:011o}", length)).u8(0);
    }
  }
  map.u8(0).text(fmt::format("{:011o}", 3100)).u8(0);
  Bytes header = TarBuilder::header({.name = "sparse", .typeflag = 'S'}, 8, TarStyle::gnu, map.view());
  Bytes tar = TarBuilder(TarStyle::gnu).raw(header).raw(to_bytes("tidepool")).file("next", "x").build();
  for (As as : {As::file, As::stream}) {
    Held opened = open_bytes(tar, "s.tar", as);
    EXPECT_EQ(text_at(*opened, "sparse"), kSparse);
    EXPECT_EQ(entry_at(*opened, "sparse").stored_size, 8u);
    EXPECT_TRUE(entry_at(*opened, "sparse").is(Entry::sparse));
    EXPECT_EQ(text_at(*opened, "next"), "x");
  }
}

TEST(Tar, ReadsPaxSparseFormats) {
  Bytes v00 = TarBuilder()
                  .pax({{"GNU.sparse.size", "3100"},
                        {"GNU.sparse.numblocks", "2"},
                        {"GNU.sparse.offset", "1000"},
                        {"GNU.sparse.numbytes", "4"},
                        {"GNU.sparse.offset", "3004"},
                        {"GNU.sparse.numbytes", "4"}})
                  .file("sparse", "tidepool")
                  .build();
  Bytes v01 = TarBuilder()
                  .pax({{"GNU.sparse.size", "3100"},
                        {"GNU.sparse.map", "1000,4,3004,4"},
                        {"GNU.sparse.name", "sparse"}})
                  .file("GNUSparseFile/sparse", "tidepool")
                  .build();
  std::string map = "2\n1000\n4\n3004\n4\n";
  map.resize(512, '\0');
  Bytes v10 = TarBuilder()
                  .pax({{"GNU.sparse.major", "1"},
                        {"GNU.sparse.minor", "0"},
                        {"GNU.sparse.realsize", "3100"},
                        {"GNU.sparse.name", "sparse"}})
                  .file("GNUSparseFile/sparse", map + "tidepool")
                  .build();
  for (const Bytes& tar : {v00, v01, v10}) {
    for (As as : {As::file, As::stream}) {
      EXPECT_EQ(text_at(*open_bytes(tar, "s.tar", as), "sparse"), kSparse);
    }
  }
}

TEST(Tar, RefusesSparseMapsThatOverlap) {
  Bytes tar = TarBuilder()
                  .pax({{"GNU.sparse.size", "100"}, {"GNU.sparse.map", "0,60,50,10"}})
                  .file("sparse", std::string(70, 'x'))
                  .build();
  EXPECT_REFUSAL(
      open_bytes(tar)->entries(), Malformed,
      "sparse map: the extent at 50 with 10 bytes overlaps another or leaves the entry's 100 bytes");
}

/// A header that changes the next one, with this as its data.
Bytes tar_with(char typeflag, std::string_view data, std::uint64_t size) {
  Bytes whole = TarBuilder::header({.name = "more", .typeflag = typeflag}, size, TarStyle::gnu);
  whole.insert(whole.end(), data.begin(), data.end());
  whole.resize((whole.size() + 511) / 512 * 512);
  Bytes rest = TarBuilder().file("tide.txt", "high").build();
  whole.insert(whole.end(), rest.begin(), rest.end());
  return whole;
}

TEST(Tar, SaysWhatIsWrongWithExtensions) {
  auto entries_of = [](const Bytes& tar) { return open_bytes(tar, "t.tar")->entries().size(); };
  EXPECT_REFUSAL(entries_of(tar_with('M', "", 0)), Unsupported,
                 "a tar archive that continues a file of another volume");
  EXPECT_REFUSAL(entries_of(tar_with('x', "", 20 << 20)), LimitExceeded,
                 "a tar extension header of 20971520 bytes; real ones are far below 16 MiB");
  constexpr std::string_view kCut = "30 path=a\n", kNoSign = "9 abcdef\n";
  EXPECT_REFUSAL(entries_of(tar_with('x', kCut, kCut.size())), Malformed,
                 "expected \"LENGTH KEYWORD=VALUE\" and a line end");
  EXPECT_REFUSAL(entries_of(tar_with('x', kNoSign, kNoSign.size())), Malformed,
                 "expected \"=\" behind the keyword");
  EXPECT_REFUSAL(entries_of(TarBuilder().pax({{"size", "tide"}}).file("a", "b").build()), Malformed,
                 "pax record \"size\": expected a decimal number, found \"tide\"");
}

TEST(Tar, SaysWhatIsWrongWithSparseMaps) {
  Bytes tar = TarBuilder()
                  .pax({{"GNU.sparse.major", "1"}, {"GNU.sparse.minor", "0"}, {"GNU.sparse.realsize", "9"}})
                  .file("gauge.raw", std::string(600, '1'))
                  .build();
  EXPECT_REFUSAL(open_bytes(tar)->entries(), Malformed,
                 "sparse map 1.0: expected decimal lines in front of the data");
  Bytes tail(140);
  std::fill_n(tail.begin() + 386 - 345, 24, Byte{'z'});
  Bytes old = TarBuilder::header({.name = "gauge.raw", .typeflag = 'S'}, 0, TarStyle::gnu, tail);
  old.resize(old.size() + 1024);
  EXPECT_REFUSAL(open_bytes(old, "t.tar")->entries(), Malformed,
                 "tar sparse map: expected a number, found other characters");
}

TEST(Tar, AgreesWithTheSystemsTarOnSparseAndLongNames) {
  if (!on_path("tar")) GTEST_SKIP() << "this machine has no tar program";
  TempFolder temp;
  temp.write("in/" + std::string(120, 'd') + "/" + std::string(150, 'f'), "deep");
  ASSERT_EQ(run("truncate", {"-s", "300000", "in/hole"}, temp.path()).exit_code, 0);
  ASSERT_EQ(
      run("sh", {"-c", "printf tide | dd of=in/hole bs=1 seek=200000 conv=notrunc 2>/dev/null"}, temp.path())
          .exit_code,
      0);
  for (const char* form : {"--format=gnu", "--format=pax --sparse-version=0.0",
                           "--format=pax --sparse-version=0.1", "--format=pax --sparse-version=1.0"}) {
    ASSERT_EQ(run("sh", {"-c", std::string("tar -cSf out.tar ") + form + " in"}, temp.path()).exit_code, 0)
        << form;
    Held tar = open_bytes(to_bytes(temp.read("out.tar")), "out.tar");
    EXPECT_EQ(text_at(*tar, "in/hole"), temp.read("in/hole")) << form;
    EXPECT_EQ(text_at(*tar, "in/" + std::string(120, 'd') + "/" + std::string(150, 'f')), "deep") << form;
  }
}

TEST(Tar, GoesOnBehindADamagedHeader) {
  Bytes tar = TarBuilder().file("a", "alpha").file("b", "beta").file("c", "gamma").build();
  tar[1024 + 3] ^= 0x40;  // in the header of b
  for (As as : {As::file, As::stream}) {
    Held opened = open_bytes(tar, "s.tar", as);
    EXPECT_EQ(paths_of(*opened), "a c");
    EXPECT_TRUE(has_finding(*opened, "damaged headers between offsets 1024 and 2048"));
    EXPECT_EQ(text_at(*opened, "c"), "gamma");
  }
}

TEST(Tar, SaysWhenItsEndIsMissingOrFollowedByOtherBytes) {
  TarBuilder builder;
  builder.file("a", "alpha");
  EXPECT_TRUE(has_finding(
      *[&] {
        static Held held = open_bytes(builder.blocks());
        held->entries();
        return held.opened.container;
      }(),
      "zero blocks that end a tar archive are missing"));
  Bytes more = builder.build();
  for (Byte b : to_bytes("barnacle")) more.push_back(b);
  Held opened = open_bytes(more);
  opened->entries();
  EXPECT_TRUE(has_finding(*opened, "bytes that are not padding follow the archive's end, from offset 2048"));
}

TEST(Tar, WalksAStreamInOnePass) {
  Held tar = open_bytes(TarBuilder().file("a", "alpha").file("b", "beta").build(), "s.tar", As::stream);
  EXPECT_EQ(tar->access(), Access::forward);
  std::string seen;
  tar->walk([&](const Visit& visit) {
    if (visit.entry.path == "b") seen = as_text(read_all(*visit.stream, 100));  // a is passed over
    return true;
  });
  EXPECT_EQ(seen, "beta");
}

TEST(Tar, SurvivesEveryCut) {
  Bytes tar = TarBuilder()
                  .folder("pool")
                  .pax({{"path", "pool/long"}})
                  .file("x", "alpha")
                  .symbolic("l", "pool")
                  .file("b", "beta")
                  .build();
  EXPECT_GT(read_every_prefix(tar, "sample.tar"), tar.size() / 2);
}

TEST(Tar, StopsAtTheEntryLimit) {
  Bytes tar = TarBuilder().file("a", "").file("b", "").file("c", "").build();
  Held opened =
      open_bytes(tar, "s.tar", As::file, [](OpenContext& context) { context.limits.max_entries = 2; });
  EXPECT_REFUSAL(opened->entries(), LimitExceeded,
                 "more than 2 entries in all containers of a file of 0 B, as in files made to be endless; if "
                 "that is right, raise --max-entries");
}

TEST(Tar, ASlashAtTheEndMakesAFolderOnlyOfAnOldEntry) {
  std::string full(99, 'n');
  Bytes tar = TarBuilder()
                  .pax({{"path", "long/" + full + "/file"}})
                  .add({.name = full + "/", .data = to_bytes("tide")})
                  .file("after", "x")
                  .build();
  Held held = open_bytes(tar, "s.tar");
  EXPECT_EQ(text_at(*held, "long/" + full + "/file"), "tide");
  EXPECT_EQ(text_at(*held, "after"), "x");
  EXPECT_TRUE(held->findings().empty());
  Held old = open_bytes(
      TarBuilder(TarStyle::v7).add({.name = "folder/", .data = {}, .typeflag = '\0'}).build(), "s.tar");
  EXPECT_EQ(entry_at(*old, "folder").kind, EntryKind::folder);
}

TEST(Tar, RecordsForTheWholeArchiveAreNotCopiedIntoEachEntry) {
  TarBuilder tar;
  tar.pax({{"comment", std::string(100'000, 'c')}, {"uname", "hall"}}, 'g');
  for (int i = 0; i < 100; ++i) tar.file("f" + std::to_string(i), "");
  tar.pax({{"uname", ""}}).file("own", "");
  Held held = open_bytes(tar.build(), "s.tar");
  std::size_t memory = 0;
  for (const Entry& entry : held->entries()) memory += memory_of(entry);
  EXPECT_LT(memory, 100'000u);
  EXPECT_EQ(entry_at(*held, "f7").extra->owner, "hall");
  EXPECT_EQ(entry_at(*held, "own").extra->owner, "curator")
      << "an empty value deletes: the header's own holds again";
}

/// What needs no memory keeps none: a listing, and the way to one entry.
TEST(Tar, ListingAndFindingKeepNoEntries) {
  TarBuilder builder;
  for (int i = 0; i < 3'000; ++i) builder.file("log/day " + std::to_string(i) + ".txt", std::to_string(i));
  Bytes tar = builder.build();
  auto little = [](OpenContext& context) { context.limits.max_memory = 50'000; };
  Held held = open_bytes(tar, "t.tar", As::file, little);
  std::size_t count = 0;
  held->each(Detail::all, [&](const Entry&) { ++count; });
  EXPECT_EQ(count, 3'000u);
  Lookup found = held->find("log/day 2718.txt");
  ASSERT_EQ(found.kind, Lookup::Kind::entry);
  EXPECT_EQ(as_text(read_all(*found.open()->stream(), 100)), "2718");
  EXPECT_EQ(open_bytes(tar, "t.tar", As::file, little)->find("log").kind, Lookup::Kind::folder);
  EXPECT_REFUSAL(
      open_bytes(tar, "t.tar", As::file, little)->entries(), LimitExceeded,
      "listing a file of 0 B takes more than 48.8 KiB of memory; if that is right, raise --max-memory");
}

/// Bytes in blocks that are decoded, and how many were.
struct InBlocks {
  explicit InBlocks(Bytes all) : all_(std::move(all)) {}

  SourcePtr source() {
    std::vector<Block> blocks;
    for (std::uint64_t at = 0; at < all_.size(); at += kSize)
      blocks.push_back({at, std::min<std::uint64_t>(kSize, all_.size() - at), at, 0});
    return std::make_shared<BlockSource>(std::move(blocks), [this](const Block& block) {
      ++decoded;
      auto begin = all_.begin() + static_cast<std::ptrdiff_t>(block.unpacked_offset);
      return Bytes(begin, begin + static_cast<std::ptrdiff_t>(block.unpacked_size));
    });
  }
  std::atomic<std::size_t> decoded{0};

 private:
  static constexpr std::uint64_t kSize = 64 << 10;
  const Bytes all_;
};

TEST(Tar, BlocksWithoutHeadersAreNotDecodedOnTheWayToOneEntry) {
  std::string large(3 << 20, 's');
  InBlocks far(TarBuilder().file("a.img", large).file("note.txt", "low water").file("b.img", large).build());
  Held held = open_source(far.source(), "t.tar");
  Lookup found = held->find("note.txt");
  ASSERT_EQ(found.kind, Lookup::Kind::entry);
  EXPECT_EQ(as_text(read_all(*found.open()->stream(), 100)), "low water");
  EXPECT_EQ(paths_of(*held), "a.img note.txt b.img");
  EXPECT_LT(far.decoded, 20u) << "of 97 blocks";
}

TEST(Tar, ManySmallEntriesInBlocksAreReadForwards) {
  TarBuilder builder;
  for (int i = 0; i < 3'000; ++i) builder.file("log/" + std::to_string(i), std::to_string(i));
  InBlocks near(builder.build());
  Held held = open_source(near.source(), "t.tar");
  EXPECT_EQ(held->access(), Access::forward);
  Lookup found = held->find("log/2718");
  ASSERT_EQ(found.kind, Lookup::Kind::entry);
  EXPECT_EQ(as_text(read_all(*found.open()->stream(), 100)), "2718");
}

/// However often it is gone through, each entry counts once.
TEST(Tar, EntriesCountOnceForTheGuard) {
  Bytes tar = TarBuilder().file("a", "1").file("b", "2").file("c", "3").build();
  Held held =
      open_bytes(tar, "t.tar", As::file, [](OpenContext& context) { context.limits.max_entries = 3; });
  for (int i = 0; i < 4; ++i) EXPECT_EQ(held->find("b").kind, Lookup::Kind::entry);
  held->each(Detail::paths, [](const Entry&) {});
  EXPECT_EQ(held->entries().size(), 3u);
}

TEST(TarPax, RecordsThatAreNoneAreToldWithTheirPlace) {
  auto read = [](std::string_view text) {
    tar::PaxRecords records;
    tar::read_pax(as_bytes(text), 512, records);
    return records;
  };
  EXPECT_EQ(read("12 path=eel\n12 mtime=77\n").at("mtime"), "77");
  const std::string form = "pax record at offset 512: expected \"LENGTH KEYWORD=VALUE\" and a line end";
  for (const char* wrong : {"path=eel\n", "99 path=eel\n", "12 path=eelx\n", "4 a=\n"})
    EXPECT_REFUSAL(read(wrong), Malformed, form) << wrong;
  EXPECT_REFUSAL(read("12 path eel\n"), Malformed,
                 "pax record at offset 512: expected \"=\" behind the keyword");
  EXPECT_REFUSAL(tar::pax_number("size", "many"), Malformed,
                 "pax record \"size\": expected a decimal number, found \"many\"");
}

TEST(TarSparse, AMapThatIsCutIsTold) {
  constexpr std::size_t kExtendedAt = 482 - 345;
  Bytes tail(512 - 345);
  tail[kExtendedAt] = 1;  // another block of the map follows
  std::memset(&tail[kExtendedAt + 1], '0', 11);
  Bytes image = TarBuilder::header({.name = "holes.bin", .typeflag = 'S'}, 0, TarStyle::gnu, tail);
  EXPECT_REFUSAL(open_bytes(image)->entries(), Malformed, "tar sparse map: the file is cut short within it");
}

}  // namespace
}  // namespace operculum

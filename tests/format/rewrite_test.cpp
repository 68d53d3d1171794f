// Archives written again: what is to change does, and everything else lies there as it lay.
#include <gtest/gtest.h>

#include "base/checksum.h"
#include "base/error.h"
#include "base/text.h"
#include "codec/codec.h"
#include "format/archive/zip_local.h"
#include "support/program.h"
#include "support/refusal.h"
#include "support/rewritten.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

std::string text_of(const Bytes& bytes) {
  return std::string(as_text(bytes));
}

ZipBuilder kiosk() {
  return ZipBuilder()
      .add("labels/crab.txt", "sideways")
      .add({.name = "labels/limpet.txt", .data = to_bytes("holds on"), .comment = "by the door"})
      .stored("sounds/surf.raw", to_bytes("shhhh"))
      .folder("empty")
      .link("current", "labels/crab.txt")
      .comment("kiosk of 2026");
}

TEST(ZipRewrite, WithoutChangesIsTheSameBytes) {
  for (const Bytes& before :
       {kiosk().build(), kiosk().zip64().build(), kiosk().prefix(Bytes(77, 'p')).build()})
    EXPECT_EQ(Rewritten(before).bytes(), before);
}

TEST(ZipRewrite, ChangesWhatIsNamedAndNothingElse) {
  Bytes before = kiosk().build();
  Rewritten made(before);
  made.set("labels/limpet.txt", "lets go")
      .remove("sounds/surf.raw")
      .rename("labels/crab.txt", "labels/hermit.txt");
  made.add("labels/new.txt", "hello").add_folder("more");
  Held after = made.open();
  EXPECT_EQ(paths_of(*after), "labels/hermit.txt labels/limpet.txt empty current labels/new.txt more");
  EXPECT_EQ(text_at(*after, "labels/hermit.txt"), "sideways");
  EXPECT_EQ(text_at(*after, "labels/limpet.txt"), "lets go");
  EXPECT_EQ(text_at(*after, "labels/new.txt"), "hello");
  EXPECT_EQ(entry_at(*after, "labels/limpet.txt").extra->comment, "by the door");
  EXPECT_EQ(entry_at(*after, "current").link_target(), "labels/crab.txt");
  EXPECT_EQ(entry_at(*after, "more").kind, EntryKind::folder);
  EXPECT_EQ(after->facts()[0].second, "kiosk of 2026");
  EXPECT_TRUE(after->findings().empty()) << after->findings()[0].text;
}

TEST(ZipRewrite, RefusesDataThatReachesIntoWhatIsWrittenAnew) {
  Bytes before = ZipBuilder().stored("a", to_bytes("ebb and flow")).stored("b", to_bytes("neap")).build();
  Bytes in_entry = before, in_directory = before;
  in_entry[28] = 4;  // bytes of extra fields of a, in front of its data
  std::size_t header_b = zip::kLocalSize + 1 + 12;
  in_directory[header_b + 28] = 4;
  EXPECT_EQ(Rewritten(in_directory).bytes(), in_directory);
  EXPECT_REFUSAL(Rewritten(in_entry).rename("b", "bb").bytes(), Unsupported,
                 "changing a ZIP archive in which the data of a reaches 4 bytes into what lies behind it");
  EXPECT_REFUSAL(Rewritten(in_directory).add("c", "x").bytes(), Unsupported, "the data of b reaches 4 bytes");
  EXPECT_EQ(paths_of(*Rewritten(in_directory).remove("b").open()), "a");
}

TEST(ZipRewrite, BelievesTheDirectoryWhetherAnEntryIsEncrypted) {
  Bytes before = ZipBuilder().add("a.txt", "ebb and flow").add("b.txt", "neap").build();
  before[6] |= 1;  // flags in front of the data of a
  Held after = Rewritten(before).set("a.txt", "spring tide").open();
  EXPECT_EQ(text_at(*after, "a.txt"), "spring tide");
  EXPECT_FALSE(entry_at(*after, "a.txt").is(Entry::encrypted));
}

TEST(ZipRewrite, ANewNameIsReadAsItIsWrittenWhateverTheTwoHeadersSaid) {
  constexpr std::uint8_t kUtf8 = 1 << 3;  // of the flags' second byte
  for (bool in_front : {true, false}) {
    Bytes before = ZipBuilder().add("a.txt", "ebb and flow").build();
    auto directory = std::string(as_text(before)).find("PK\1\2");
    before[in_front ? 7 : directory + 9] |= kUtf8;
    EXPECT_EQ(paths_of(*Rewritten(before).rename("a.txt", "b\u00f6je.txt").open()), "b\u00f6je.txt")
        << in_front;
  }
}

TEST(ZipRewrite, KeepsMethodsFlagsTimesAndModes) {
  for (const char* codec : {"stored", "deflate", "deflate64", "bzip2", "xz", "zstd"}) {
    std::uint16_t method = *zip::method_for(codec);
    Bytes before = ZipBuilder()
                       .add({.name = "a.txt",
                             .data = to_bytes(std::string(500, 'a')),
                             .codec = codec,
                             .method = method,
                             .descriptor = true,
                             .unix_mode = 0100755})
                       .add("b.txt", "beta")
                       .build();
    Held after = Rewritten(before).set("a.txt", std::string(700, 'n')).open();
    const Entry& entry = entry_at(*after, "a.txt");
    EXPECT_EQ(entry.method, codec);
    EXPECT_EQ(entry.mode, 0755u);
    EXPECT_EQ(text_at(*after, "a.txt"), std::string(700, 'n')) << codec;
    EXPECT_EQ(text_at(*after, "b.txt"), "beta");
    EXPECT_TRUE(after->findings().empty()) << after->findings()[0].text;
  }
}

TEST(ZipRewrite, PacksAsTheOriginalWasPacked) {
  std::string words;
  for (int i = 0; i < 5000; ++i) words += std::to_string(i * i % 777) + " ";
  PackSettings settings;
  for (int level : {1, 6, 9}) {
    settings.level = level;
    ZipItem item{
        .name = "a.txt", .data = to_bytes(words), .stored = encode("deflate", to_bytes(words), settings)};
    Rewritten made(ZipBuilder().add(item).build());
    Bytes after = made.set("a.txt", words + "more").bytes();
    Bytes expected = encode("deflate", to_bytes(words + "more"), settings);
    EXPECT_NE(text_of(after).find(text_of(expected)), std::string::npos) << level;
    EXPECT_TRUE(made.notes().empty());
  }
  Bytes odd = encode("deflate", to_bytes(words), settings);
  ZipItem other{.name = "a.txt", .data = to_bytes(words)};
  settings.level = 2;
  Bytes two = encode("deflate", to_bytes(words.substr(0, 9000)), settings);
  settings.strategy = 2;
  settings.level = 7;
  settings.memory_level = 3;
  other.stored = encode("deflate", to_bytes(words), settings);
  Rewritten made(ZipBuilder().add(other).build());
  made.set("a.txt", "short").bytes();
  ASSERT_EQ(made.notes().size(), 1u);
  EXPECT_EQ(made.notes()[0],
            "a.txt: packed with deflate at level 9; the original was made by another encoder");
}

TEST(ZipRewrite, ChangesTheMethodWhenAsked) {
  Held after = Rewritten(kiosk().build()).set("labels/crab.txt", std::string(900, 'c')).method("zstd").open();
  EXPECT_EQ(entry_at(*after, "labels/crab.txt").method, "zstd");
  EXPECT_EQ(text_at(*after, "labels/crab.txt"), std::string(900, 'c'));
  EXPECT_EQ(entry_at(*after, "labels/limpet.txt").method, "deflate");
  Bytes old = ZipBuilder().add({.name = "a", .data = {}, .method = 6, .stored = Bytes{}}).build();
  EXPECT_REFUSAL(Rewritten(old).set("a", "x").bytes(), Unsupported,
                 "Unsupported: packing with ZIP method 6 (implode); --method deflate packs it so that every "
                 "reader knows it");
  EXPECT_EQ(text_at(*Rewritten(old).set("a", "x").method("deflate").open(), "a"), "x");
}

TEST(ZipRewrite, EncryptsWithTheKeyThatWasThere) {
  for (int strength : {0, 1, 3}) {
    for (bool descriptor : {false, true}) {
      ZipBuilder builder;
      builder.add({.name = "key.txt",
                   .data = to_bytes("high water"),
                   .password = "limpet",
                   .aes_strength = strength,
                   .descriptor = descriptor});
      builder.add(
          {.name = "other.txt", .data = to_bytes("low"), .password = "limpet", .aes_strength = strength});
      Bytes after = Rewritten(builder.build()).password("limpet").set("key.txt", "new tide").bytes();
      Held open = open_bytes(after, "s", As::file, [](OpenContext& c) { c.keys.add({"limpet", "t"}, "*"); });
      EXPECT_EQ(text_at(*open, "key.txt"), "new tide") << strength;
      EXPECT_EQ(text_at(*open, "other.txt"), "low");
      EXPECT_TRUE(entry_at(*open, "key.txt").is(Entry::encrypted));
      EXPECT_EQ(text_of(after).find("new tide"), std::string::npos);
    }
  }
}

/// A pack whose stored data begins at multiples of 64, filled up by zeros in the local extra field.
Bytes aligned_pack() {
  ByteWriter out;
  std::vector<std::uint64_t> offsets;
  ByteWriter directory;
  for (const char* name : {"one", "three", "seventeen"}) {
    std::string data(std::string(name).size() * 3, name[0]);
    std::size_t bare = out.size() + zip::kLocalSize + std::string(name).size();
    std::size_t padding = (64 - bare % 64) % 64;
    zip::LocalHeader local;
    local.name = name;
    Bytes zeros(padding), header;
    local.extra = zeros;
    local.compressed_size = local.uncompressed_size = data.size();
    local.crc32 = crc32(0, to_bytes(data));
    zip::CentralHeader central;
    central.name = name;
    central.compressed_size = central.uncompressed_size = data.size();
    central.crc32 = local.crc32;
    central.local_offset = out.size();
    Bytes listed;
    central.append_to(listed);
    directory.bytes(listed);
    local.append_to(header);
    out.bytes(header).text(data);
  }
  zip::PlainEnd end;
  end.entries = end.entries_here = 3;
  end.directory_size = static_cast<std::uint32_t>(directory.size());
  end.directory_offset = static_cast<std::uint32_t>(out.size());
  Bytes ended;
  append_structure(ended, end);
  return out.bytes(directory.view()).bytes(ended).take();
}

TEST(ZipRewrite, KeepsDataAligned) {
  Rewritten made(aligned_pack());
  Bytes after =
      made.set("one", "longer than it was").rename("three", "three-and-a-half").add("new", "x").bytes();
  Held open = open_bytes(after);
  EXPECT_EQ(paths_of(*open), "one three-and-a-half seventeen new");
  SourcePtr source = make_memory_source(after);
  for (std::size_t i = 0; i < open->entries().size(); ++i) {
    const Entry& entry = open->entries()[i];
    if (entry.method != "stored") continue;
    std::vector<Footprint> taken = open->footprint(i);
    ASSERT_EQ(taken.size(), 1u) << entry.path;
    EXPECT_EQ((taken[0].at + taken[0].size - entry.stored_size) % 64, 0u) << entry.path;
  }
  EXPECT_EQ(text_at(*open, "seventeen"), std::string(27, 's'));
}

/// Behind the directory's headers lie bytes that belong to nothing; those of an empty one would hide its end.
TEST(ZipRewrite, TheLastEntryMayGo) {
  constexpr std::size_t kEndSize = 22, kSizeAt = 12, kOdd = 77;
  Bytes before = ZipBuilder().add("a.txt", "calm").build();
  before.insert(before.end() - kEndSize, kOdd, Byte{'z'});
  before[before.size() - kEndSize + kSizeAt] += kOdd;
  EXPECT_EQ(Rewritten(before).bytes(), before);
  EXPECT_TRUE(Rewritten(before).remove("a.txt").open()->entries().empty());
  EXPECT_EQ(paths_of(*Rewritten(before).remove("a.txt").add("b.txt", "b").open()), "b.txt");
}

TEST(ZipRewrite, IsReadByOtherPrograms) {
  if (!on_path("python3")) GTEST_SKIP() << "this machine has no python3";
  TempFolder folder;
  for (const Bytes& before :
       {kiosk().build(), kiosk().zip64().build(), kiosk().prefix(Bytes(50, 'p')).build()}) {
    folder.write("after.zip",
                 Rewritten(before).set("labels/crab.txt", "new").add("x", "y").remove("empty").bytes());
    Ran ran =
        run("python3",
            {"-c", "import zipfile; z = zipfile.ZipFile('after.zip'); print(z.testzip(), len(z.namelist()))"},
            folder.path());
    EXPECT_EQ(ran.out, "None 5\n") << ran.err;
  }
}

TEST(TarRewrite, KeepsEveryVariantAndItsEnd) {
  for (TarStyle style : {TarStyle::v7, TarStyle::ustar, TarStyle::gnu}) {
    Bytes before =
        TarBuilder(style).folder("opt").file("opt/a", "alpha").file("b", "beta").symbolic("l", "b").build();
    EXPECT_EQ(Rewritten(before).bytes(), before);
    Rewritten made(before);
    made.set("opt/a", std::string(2000, 'n'))
        .add("c", "gamma")
        .rename("b", "bee")
        .remove("opt")
        .link("l", "c");
    Held after = made.open();
    EXPECT_EQ(paths_of(*after), "opt/a bee l c");
    EXPECT_EQ(text_at(*after, "opt/a"), std::string(2000, 'n'));
    EXPECT_EQ(text_at(*after, "bee"), "beta");
    EXPECT_EQ(entry_at(*after, "l").link_target(), "c");
    EXPECT_TRUE(after->findings().empty()) << after->findings()[0].text;
  }
}

/// What cannot be read between entries stays as it lies: nothing of it is lost, and it is told as before.
TEST(TarRewrite, DamageBetweenEntriesStays) {
  Bytes image =
      TarBuilder().file("crab.txt", "red crab").file("eel.txt", "eel").file("tide.txt", "high").build();
  image[1024 + 200] ^= 1;  // within the second header
  Bytes after = Rewritten(image).set("crab.txt", "blue").bytes();
  ASSERT_EQ(after.size(), image.size());
  EXPECT_TRUE(std::equal(image.begin() + 1024, image.end(), after.begin() + 1024));
  Held held = open_bytes(after);
  EXPECT_EQ(text_at(*held, "crab.txt"), "blue");
  EXPECT_EQ(text_at(*held, "tide.txt"), "high");
  EXPECT_TRUE(has_finding(*held, "damaged headers between offsets 1024 and 2048"));
}

TEST(TarRewrite, KeepsPaxRecordsAndFindsRoomForLongNames) {
  Bytes before = TarBuilder()
                     .pax({{"mtime", "1772373908.25"}, {"SCHILY.xattr.user.origin", "pier"}})
                     .file("a", "alpha")
                     .file("b", "beta")
                     .build();
  std::string longer(180, 'x');
  Held after = Rewritten(before).set("a", "new").rename("b", "deep/" + longer).open();
  EXPECT_EQ(entry_at(*after, "a").modified.nanoseconds, 250'000'000u);
  EXPECT_EQ(text_at(*after, "deep/" + longer), "beta");
  Held gnu = Rewritten(TarBuilder(TarStyle::gnu).file("b", "beta").build()).rename("b", longer).open();
  EXPECT_EQ(text_at(*gnu, longer), "beta");
  Bytes v7 = TarBuilder(TarStyle::v7).file("b", "beta").build();
  EXPECT_REFUSAL(Rewritten(v7).rename("b", longer).bytes(), Unsupported,
                 "Unsupported: a name of more than 100 bytes in a tar archive of the old v7 form");
}

TEST(TarRewrite, ReplacesASparseFileByAPlainOne) {
  if (!on_path("tar")) GTEST_SKIP() << "this machine has no tar program";
  TempFolder folder;
  for (const char* form : {"gnu", "pax"}) {
    for (const char* version : {"0.0", "0.1", "1.0"}) {
      ASSERT_EQ(run("sh",
                    {"-c",
                     "rm -f big s.tar; truncate -s 1M big; echo end >> big; echo b > b; tar --sparse "
                     "--sparse-version=" +
                         std::string(version) + " -H " + form + " -cf s.tar big b"},
                    folder.path())
                    .exit_code,
                0);
      Bytes before = to_bytes(folder.read("s.tar"));
      Bytes after = Rewritten(before).set("big", "small now").bytes();
      Held open = open_bytes(after);
      EXPECT_EQ(text_at(*open, "big"), "small now") << form << version;
      EXPECT_EQ(text_at(*open, "b"), "b\n");
      folder.write("after.tar", after);
      EXPECT_EQ(run("tar", {"-xOf", "after.tar", "big"}, folder.path()).out, "small now") << form << version;
    }
  }
}

TEST(CpioRewrite, KeepsItsFormAndItsChecksums) {
  if (!on_path("cpio")) GTEST_SKIP() << "this machine has no cpio program";
  TempFolder folder;
  folder.write("in/pool/crab", "pinch");
  folder.write("in/pool/limpet", "hold");
  for (const char* form : {"newc", "crc", "odc", "bin"}) {
    ASSERT_EQ(
        run("sh",
            {"-c", std::string("cd in && ln -sf crab pool/l && find pool | sort | cpio --quiet -o -H ") +
                       form + " > ../out"},
            folder.path())
            .exit_code,
        0);
    Bytes before = to_bytes(folder.read("out"));
    EXPECT_EQ(Rewritten(before).bytes(), before) << form;
    Rewritten made(before);
    made.set("pool/crab", "a longer pinch")
        .rename("pool/l", "pool/link")
        .add("pool/new", "fresh")
        .remove("pool/limpet");
    Bytes after = made.bytes();
    EXPECT_EQ(after.size() % 512, 0u);
    Held open = open_bytes(after);
    EXPECT_EQ(paths_of(*open), "pool pool/crab pool/link pool/new") << form;
    EXPECT_EQ(text_at(*open, "pool/crab"), "a longer pinch");
    EXPECT_EQ(entry_at(*open, "pool/link").link_target(), "crab");
    folder.write("after", after);
    Ran ran =
        run("sh", {"-c", "rm -rf x; mkdir x; cd x; cpio --quiet -idm < ../after && cat pool/crab pool/new"},
            folder.path());
    EXPECT_EQ(ran.out, "a longer pinchfresh") << form << ran.err;
  }
}

TEST(ArRewrite, KeepsMembersAndFindsRoomForNames) {
  if (!on_path("ar")) GTEST_SKIP() << "this machine has no ar program";
  TempFolder folder;
  folder.write("one", "alpha");
  folder.write("a-name-that-is-long.txt", "beta!");
  ASSERT_EQ(run("ar", {"rcD", "s.a", "one", "a-name-that-is-long.txt"}, folder.path()).exit_code, 0);
  Bytes before = to_bytes(folder.read("s.a"));
  EXPECT_EQ(Rewritten(before).bytes(), before);
  Bytes after =
      Rewritten(before).set("one", "odd").set("a-name-that-is-long.txt", "even").add("new", "n").bytes();
  folder.write("after.a", after);
  EXPECT_EQ(run("ar", {"t", "after.a"}, folder.path()).out, "one\na-name-that-is-long.txt\nnew\n");
  EXPECT_EQ(run("ar", {"p", "after.a"}, folder.path()).out, "oddevenn");
  Held renamed = Rewritten(before).rename("one", "another-long-name-of-a-member").open();
  EXPECT_EQ(text_at(*renamed, "another-long-name-of-a-member"), "alpha");
  EXPECT_REFUSAL(Rewritten(before).add_folder("folder").bytes(), Unsupported,
                 "Unsupported: a folder in an ar archive: folder");
}

class StreamRewrite : public ::testing::TestWithParam<std::string> {};
TEST_P(StreamRewrite, PacksTheNewContentAsTheOldOneWas) {
  std::string codec = GetParam();
  std::string plain;
  for (int i = 0; i < 9000; ++i) plain += std::to_string(i * 7 % 1013) + (i % 9 == 0 ? "\n" : " ");
  Bytes before = encode(codec, to_bytes(plain));
  Rewritten made(before, "tides.bin");
  std::string entry(open_bytes(before, "tides.bin")->entries()[0].path);
  EXPECT_EQ(Rewritten(before, "tides.bin").bytes(), before);
  EXPECT_EQ(made.set(entry, plain + "neap").bytes(), encode(codec, to_bytes(plain + "neap")));
  EXPECT_TRUE(made.notes().empty()) << made.notes()[0];
  EXPECT_REFUSAL(Rewritten(before, "tides.bin").add("x", "y").bytes(), Unsupported,
                 "Unsupported: adding, removing and renaming in a file that holds a single stream");
}
INSTANTIATE_TEST_SUITE_P(Codecs, StreamRewrite,
                         ::testing::Values("gzip", "zlib", "bzip2", "xz", "lzma-alone", "zstd", "lz4",
                                           "compress"),
                         [](const auto& tested) {
                           std::string name = tested.param;
                           std::erase(name, '-');
                           return name;
                         });

TEST(StreamRewrite, KeepsTheHeadOfAGzipFile) {
  if (!on_path("gzip")) GTEST_SKIP() << "this machine has no gzip program";
  TempFolder folder;
  folder.write("tides.txt", "high water at noon\n");
  ASSERT_EQ(run("gzip", {"-9", "tides.txt"}, folder.path()).exit_code, 0);
  Bytes before = to_bytes(folder.read("tides.txt.gz"));
  Bytes after = Rewritten(before, "tides.txt.gz").set("tides.txt", "low water at six\n").bytes();
  constexpr std::size_t kHead = 10 + 10;  // with the name
  EXPECT_EQ(to_hex(ByteView(after).first(kHead)), to_hex(ByteView(before).first(kHead)));
  folder.write("after.gz", after);
  EXPECT_EQ(run("gzip", {"-dc", "after.gz"}, folder.path()).out, "low water at six\n");
}

TEST(Rewrite, OfHostileArchivesEndsInAnErrorOrAnArchive) {
  for (const Bytes& whole :
       {kiosk().build(), TarBuilder(TarStyle::gnu).file("labels/crab.txt", "x").file("b", "y").build()}) {
    for (std::size_t at = 0; at < whole.size(); at += 3) {
      Bytes flipped = whole;
      flipped[at] ^= 0x41;
      try {
        Bytes after = Rewritten(flipped).set("labels/crab.txt", "new").bytes();
        EXPECT_GT(after.size(), 0u);
      } catch (const Error& error) {
        EXPECT_NE(std::string(error.what()), "");
      }
    }
  }
}

}  // namespace
}  // namespace operculum::test

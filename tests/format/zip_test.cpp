#include <gtest/gtest.h>

#include "base/checksum.h"
#include "format/archive/formats.h"
#include "support/old_zip_packers.h"
#include "support/open.h"
#include "support/refusal.h"
#include "support/rewritten.h"
#include "support/zip_builder.h"

namespace operculum {
namespace {

using namespace test;

Bytes long_text() {
  std::string text;
  for (int i = 0; i < 2000; ++i) text += "high water at " + std::to_string(i * 7 % 1440) + "\n";
  return to_bytes(text);
}

struct MethodCase {
  const char* codec;
  std::uint16_t method;
};
struct ZipMethods : testing::TestWithParam<MethodCase> {};

TEST_P(ZipMethods, AreUnpackedAndChecked) {
  auto [codec, method] = GetParam();
  Held zip = open_bytes(
      ZipBuilder().add({.name = "tides.txt", .data = long_text(), .codec = codec, .method = method}).build());
  EXPECT_EQ(zip.format(), "zip");
  EXPECT_EQ(text_at(*zip, "tides.txt"), as_text(long_text()));
  Held damaged = open_bytes(
      ZipBuilder()
          .add({.name = "tides.txt", .data = long_text(), .codec = codec, .method = method, .crc = 1})
          .build());
  EXPECT_REFUSAL(text_at(*damaged, "tides.txt"), Malformed,
                 "checksum differs (stored 00000001, computed c8975bed); the data is damaged");
}

INSTANTIATE_TEST_SUITE_P(All, ZipMethods,
                         testing::Values(MethodCase{"stored", 0}, MethodCase{"deflate", 8},
                                         MethodCase{"bzip2", 12}, MethodCase{"lzma", 14},
                                         MethodCase{"zstd", 93}, MethodCase{"zstd", 20},
                                         MethodCase{"xz", 95}));

TEST(ZipMethods, LzmaWithOtherPropertiesIsRefused) {
  Bytes image =
      ZipBuilder().add({.name = "tides.txt", .data = long_text(), .codec = "lzma", .method = 14}).build();
  constexpr std::size_t kDataAt = 30 + 9, kSizeOfProperties = 2;
  ASSERT_EQ(image[kDataAt + kSizeOfProperties], 5);
  image[kDataAt + kSizeOfProperties] = 7;
  EXPECT_REFUSAL(text_at(*open_bytes(image), "tides.txt"), Malformed, "5 bytes of LZMA properties, found 7");
}

TEST(ZipDirectory, PathsAndNumbersAreTheSameWithAndWithoutTheRest) {
  ByteWriter other;
  other.u16(0xFACE).u16(2).u16(7);
  ByteWriter unicode;  // Info-ZIP's field: version, CRC of the plain name, the name in UTF-8
  std::string plain = "gezeiten.txt", better = "gez\xc3\xa9iten.txt";
  unicode.u16(0x7075).u16(5 + better.size()).u8(1).u32(crc32(0, as_bytes(plain))).text(better);
  ByteWriter time;  // the extended timestamp: which times are there, and one
  time.u16(0x5455).u16(5).u8(1).u32(1'770'000'000);
  for (bool zip64 : {false, true}) {
    ZipBuilder zip;
    zip.folder("pool")
        .add("pool/crab.txt", "pinch")
        .add({.name = "dos\\limpet.txt", .data = to_bytes("x"), .made_by = 0});
    zip.add({.name = "with/field.txt", .data = to_bytes("y"), .extra = other.view()});
    zip.add({.name = plain, .data = to_bytes("z"), .extra = unicode.view()});
    zip.add({.name = "\xc3\xbc.txt", .data = to_bytes("u"), .utf8 = true});
    zip.add({.name = "timed.txt", .data = to_bytes("t"), .extra = time.view()});
    zip.add({.name = "sealed.txt", .data = to_bytes("s"), .password = "kelp"});
    zip.add({.name = "aes.txt", .data = to_bytes("a"), .password = "kelp", .aes_strength = 3});
    if (zip64) zip.zip64();
    Held held = open_bytes(zip.build());
    std::vector<std::pair<std::string, EntryKind>> brief, full;
    held->each(Detail::paths, [&](const Entry& entry) { brief.emplace_back(entry.path, entry.kind); });
    using Numbers =
        std::tuple<std::string, EntryKind, std::uint64_t, std::uint64_t, std::uint32_t, bool, bool>;
    auto numbers_of = [](const Entry& entry) {
      return Numbers{entry.path,
                     entry.kind,
                     entry.size,
                     entry.stored_size,
                     entry.crc32,
                     entry.is(Entry::has_crc),
                     entry.is(Entry::encrypted)};
    };
    std::vector<Numbers> some, all;
    held->each(Detail::numbers, [&](const Entry& entry) { some.push_back(numbers_of(entry)); });
    for (const Entry& entry : held->entries()) {
      full.emplace_back(entry.path, entry.kind);
      all.push_back(numbers_of(entry));
    }
    EXPECT_EQ(brief, full);
    EXPECT_EQ(some, all);
    EXPECT_EQ(std::get<6>(all[7]), true);
    EXPECT_EQ(std::get<5>(all[8]), false);
    EXPECT_EQ(full[4].first, better);
    EXPECT_EQ(full[2].first, "dos/limpet.txt");
  }
}

TEST(ZipDirectory, DamagedFieldsAreToldWhateverIsAskedFor) {
  ByteWriter time, owner;
  time.u16(0x5455).u16(0);                     // without even the byte that says which times follow
  owner.u16(0x7875).u16(3).u8(1).u8(9).u8(1);  // a number of nine bytes, of which one is there
  for (const ByteWriter* field : {&time, &owner}) {
    Bytes zip = ZipBuilder().add({.name = "a", .data = to_bytes("x"), .extra = field->view()}).build();
    for (Detail detail : {Detail::all, Detail::numbers, Detail::paths}) {
      Held held = open_bytes(zip);
      held->each(detail, [](const Entry&) {});
      EXPECT_TRUE(has_finding(*held, "extra fields that do not fill their space"));
    }
  }
}

TEST(ZipDirectory, ReadsHeadersLargerThanItsBuffer) {
  ByteWriter extra;
  extra.u16(0xFACE).u16(65'000).zeros(65'000);
  ZipBuilder zip;
  for (const char* name : {"a.txt", "b.txt", "c.txt"}) {
    zip.add({.name = std::string(60'000, 'n') + name,
             .data = to_bytes("tide"),
             .extra = extra.view(),
             .comment = std::string(60'000, 'c')});
  }
  Held held = open_bytes(zip.build());
  ASSERT_EQ(held->entries().size(), 3u);
  EXPECT_EQ(held->entries()[2].extra->comment.size(), 60'000u);
  EXPECT_EQ(text_of(*held, 2), "tide");
}

TEST(Zip, ListsNamesSizesTimesAndModes) {
  Held zip = open_bytes(
      ZipBuilder()
          .folder("pool")
          .add(
              {.name = "pool/crab.txt", .data = to_bytes("pinch"), .unix_mode = 0100751, .comment = "a crab"})
          .link("pool/latest", "crab.txt")
          .comment("exhibit 7")
          .build());
  EXPECT_EQ(paths_of(*zip), "pool pool/crab.txt pool/latest");
  const Entry& crab = entry_at(*zip, "pool/crab.txt");
  EXPECT_EQ(crab.size, 5u);
  EXPECT_EQ(crab.mode, 0751u);
  EXPECT_EQ(to_text(crab.modified), "2026-03-01 14:05:08");
  EXPECT_EQ(crab.extra->comment, "a crab");
  EXPECT_EQ(entry_at(*zip, "pool").kind, EntryKind::folder);
  EXPECT_EQ(entry_at(*zip, "pool/latest").kind, EntryKind::symbolic_link);
  EXPECT_EQ(entry_at(*zip, "pool/latest").link_target(), "crab.txt");
  EXPECT_EQ(zip->facts().front().second, "exhibit 7");
}

TEST(Zip, ReadsUnsupportedMethodsByName) {
  Held zip = open_bytes(ZipBuilder()
                            .add({.name = "a", .data = to_bytes("xyz"), .codec = "stored", .method = 97})
                            .add("b", "fine")
                            .build());
  try {
    text_at(*zip, "a");
    FAIL() << "decoded WavPack data";
  } catch (const Unsupported& error) {
    EXPECT_STREQ(error.what(), "Unsupported: ZIP compression method 97 (wavpack)");
  }
  EXPECT_EQ(text_at(*zip, "b"), "fine") << "one entry never costs another";
}

TEST(Zip, ReadsDataDescriptorsAndZip64) {
  Held streamed = open_bytes(
      ZipBuilder().add({.name = "a", .data = long_text(), .descriptor = true}).add("b", "x").build());
  EXPECT_EQ(text_at(*streamed, "a"), as_text(long_text()));
  Held large = open_bytes(ZipBuilder().add("a", "alpha").add("b", "beta").zip64().build());
  EXPECT_EQ(text_at(*large, "b"), "beta");
  EXPECT_EQ(entry_at(*large, "a").size, 5u);
}

TEST(Zip, ReadsZip64BehindAStubItsOffsetsDoNotCount) {
  Held zip = open_bytes(ZipBuilder().add("a", "alpha").zip64().prefix(Bytes(3000, 0x90)).build());
  EXPECT_EQ(text_at(*zip, "a"), "alpha");
}

TEST(Zip, DecodesNamesByFlagFieldOrCodePage) {
  Bytes cp437 = ZipBuilder().add("M\x84rz.txt", "x").build();
  EXPECT_EQ(paths_of(*open_bytes(cp437)), "März.txt");
  Bytes cp932 = ZipBuilder().add("\x8a\x4c.txt", "x").build();
  EXPECT_EQ(
      paths_of(*open_bytes(cp932, "s", As::file, [](OpenContext& context) { context.names_in = "CP932"; })),
      "貝.txt");
  EXPECT_EQ(paths_of(*open_bytes(ZipBuilder().add({.name = "貝.txt", .utf8 = true}).build())), "貝.txt");
  std::string plain = "shell.txt", real = "Muschel-貝.txt";
  Bytes field =
      ByteWriter().u16(0x7075).u16(5 + real.size()).u8(1).u32(crc32(0, as_bytes(plain))).text(real).take();
  EXPECT_EQ(paths_of(*open_bytes(ZipBuilder().add({.name = plain, .extra = field}).build())), real);
  Bytes stale = ByteWriter().u16(0x7075).u16(5 + real.size()).u8(1).u32(1).text(real).take();
  EXPECT_EQ(paths_of(*open_bytes(ZipBuilder().add({.name = plain, .extra = stale}).build())), plain)
      << "the name was changed since";
}

TEST(Zip, ReadsFinerTimesFromExtraFields) {
  Bytes extended = ByteWriter().u16(0x5455).u16(5).u8(1).u32(1772373909).take();
  EXPECT_EQ(
      to_text(
          entry_at(*open_bytes(ZipBuilder().add({.name = "a", .extra = extended}).build()), "a").modified),
      "2026-03-01 14:05:09Z");
  Bytes ntfs =
      ByteWriter().u16(0x000a).u16(32).u32(0).u16(1).u16(24).u64(134168475080000010).u64(0).u64(0).take();
  EXPECT_EQ(
      to_rfc3339(entry_at(*open_bytes(ZipBuilder().add({.name = "a", .extra = ntfs}).build()), "a").modified),
      "2026-03-01T14:05:08.000001000Z");
}

TEST(Zip, ReadsBackslashesOfDosWritersAsSlashes) {
  Held zip = open_bytes(ZipBuilder().add({.name = "pool\\crab.txt", .made_by = 0, .unix_mode = 0}).build());
  EXPECT_EQ(paths_of(*zip), "pool/crab.txt");
  EXPECT_EQ(paths_of(*open_bytes(ZipBuilder().add("tide\\x2dtable", "x").build())), "tide\\x2dtable")
      << "a Unix writer means it";
}

TEST(Zip, ToleratesAStubInFrontAndBytesBehind) {
  Bytes zip = ZipBuilder().add("a", "alpha").prefix(to_bytes(std::string(5000, 'M'))).build();
  for (Byte b : to_bytes("trailing")) zip.push_back(b);
  Held opened = open_bytes(zip, "setup.exe");
  EXPECT_EQ(text_at(*opened, "a"), "alpha");
  EXPECT_TRUE(has_finding(*opened, "5000 bytes lie in front"));
  EXPECT_TRUE(has_finding(*opened, "8 bytes follow"));
}

TEST(Zip, OpensEmptyOnes) {
  Held zip = open_bytes(ZipBuilder().build());
  EXPECT_EQ(zip.format(), "zip");
  EXPECT_EQ(zip->entries().size(), 0u);
}

TEST(Zip, FallsBackToLocalHeadersWhenTheDirectoryIsCut) {
  ZipBuilder builder;
  builder.add("a", "alpha")
      .add({.name = "b", .data = long_text(), .descriptor = true})
      .stored("c", to_bytes("gamma"));
  Held zip = open_bytes(builder.build_without_directory());
  EXPECT_EQ(paths_of(*zip), "a b c");
  EXPECT_EQ(text_at(*zip, "a"), "alpha");
  EXPECT_EQ(text_at(*zip, "b"), as_text(long_text()));
  EXPECT_EQ(text_at(*zip, "c"), "gamma");
  EXPECT_TRUE(has_finding(*zip, "3 entries were recovered"));
  EXPECT_TRUE(entry_at(*zip, "a").is(Entry::recovered));
}

TEST(Zip, SaysWhenItsHeadersContradictEachOther) {
  Held zip =
      open_bytes(ZipBuilder()
                     .add({.name = "harmless.txt", .data = to_bytes("x"), .local_name = "surprise.exe"})
                     .build());
  EXPECT_EQ(text_at(*zip, "harmless.txt"), "x");
  EXPECT_TRUE(has_finding(
      *zip,
      "contradict each other in the name (directory: harmless.txt, in front of the data: surprise.exe)"));
}

TEST(Zip, SaysWhenTheCountIsWrong) {
  Bytes zip = ZipBuilder().add("a", "x").add("b", "y").build();
  zip[zip.size() - 12] = 3;  // entries in all
  Held opened = open_bytes(zip);
  EXPECT_EQ(opened->entries().size(), 2u);
  EXPECT_TRUE(has_finding(*opened, "states 3 entries, the directory has 2"));
}

TEST(Zip, JoinsASplitSetFromTheFolder) {
  // One entry in each volume; the directory in the last one.
  ByteWriter first, last;
  auto local = [](ByteWriter& out, const std::string& name, const std::string& text) {
    out.u32(0x04034b50)
        .u16(20)
        .u16(0)
        .u16(0)
        .u16(0)
        .u16(0)
        .u32(crc32(0, as_bytes(text)))
        .u32(text.size())
        .u32(text.size())
        .u16(name.size())
        .u16(0)
        .text(name)
        .text(text);
  };
  auto central = [](ByteWriter& out, const std::string& name, const std::string& text, unsigned disk,
                    std::uint64_t offset) {
    out.u32(0x02014b50)
        .u16(0x031e)
        .u16(20)
        .u16(0)
        .u16(0)
        .u16(0)
        .u16(0)
        .u32(crc32(0, as_bytes(text)))
        .u32(text.size())
        .u32(text.size());
    out.u16(name.size()).u16(0).u16(0).u16(disk).u16(0).u32(0100644u << 16).u32(offset).text(name);
  };
  first.u32(0x08074b50);
  local(first, "a", "alpha");
  local(last, "b", "beta");
  std::uint64_t start = last.size();
  central(last, "a", "alpha", 0, 4);
  central(last, "b", "beta", 1, 0);
  std::uint64_t size = last.size() - start;
  last.u32(0x06054b50).u16(1).u16(1).u16(2).u16(2).u32(size).u32(start).u16(0);

  auto open_set = [&](bool complete) {
    Held held;
    held.context = std::make_unique<OpenContext>();
    Input input{make_content(make_memory_source(last.view())),
                "chart.zip",
                {[&, complete](const std::string& name) -> SourcePtr {
                  return complete && name == "chart.z01" ? make_memory_source(first.view()) : nullptr;
                }}};
    held.opened = open_container(input, *held.context);
    return held;
  };
  Held whole = open_set(true);
  EXPECT_EQ(text_at(*whole, "a"), "alpha");
  EXPECT_EQ(text_at(*whole, "b"), "beta");
  Held part = open_set(false);
  EXPECT_TRUE(has_finding(*part, "volumes of this split set are missing: chart.z01"));
  EXPECT_EQ(text_at(*part, "b"), "beta") << "what is there can be read";
}

struct OldMethod {
  std::uint16_t method, flags;
  const char* name;
  Bytes (*pack)(ByteView plain);
};

TEST(Zip, ReadsMethodsThatNobodyWritesAnyMore) {
  const OldMethod methods[] = {
      {1, 0, "shrink", [](ByteView plain) { return pack_shrink(plain, true); }},
      {2, 0, "reduce-1", [](ByteView plain) { return pack_reduce(plain, 1); }},
      {5, 0, "reduce-4", [](ByteView plain) { return pack_reduce(plain, 4); }},
      {6, 0, "implode", [](ByteView plain) { return pack_implode(plain, 0); }},
      {6, 6, "implode", [](ByteView plain) { return pack_implode(plain, 6); }},
      {10, 0, "dcl-implode", [](ByteView plain) { return pack_dcl_implode(plain, true, 6); }},
  };
  std::string text;
  for (int i = 0; i < 500; ++i) text += "tide table, line " + std::to_string(i * i) + "\n";
  for (const OldMethod& one : methods) {
    ZipItem item{.name = "tide.txt", .data = to_bytes(text), .method = one.method, .more_flags = one.flags};
    item.stored = one.pack(item.data);
    Bytes archive = ZipBuilder().add(item).build();
    Held held = open_bytes(archive, "old.zip");
    EXPECT_EQ(held->entries()[0].method, one.name);
    EXPECT_EQ(text_at(*held, "tide.txt"), text) << one.name << one.flags;
    (*item.stored)[item.stored->size() / 2] ^= 0x10;
    Held damaged = open_bytes(ZipBuilder().add(item).build(), "old.zip");
    EXPECT_REFUSAL(text_at(*damaged, "tide.txt"), Malformed, "the data")
        << one.name << ": the checksum stands";
  }
}

TEST(Zip, AnOldMethodIsNotWrittenButOthersAre) {
  ZipItem old{.name = "tide.txt", .data = to_bytes("ebb ebb ebb"), .method = 6};
  old.stored = pack_implode(old.data, 0);
  Bytes archive = ZipBuilder().add(old).add("crab.txt", "pinch").build();
  Held held = Rewritten(archive).set("crab.txt", "snap").open();
  EXPECT_EQ(text_at(*held, "tide.txt"), "ebb ebb ebb");
  EXPECT_EQ(text_at(*held, "crab.txt"), "snap");
  try {
    Rewritten(archive).set("tide.txt", "flood").bytes();
    FAIL() << "there is no such packer";
  } catch (const Error& error) {
    EXPECT_STREQ(error.what(),
                 "Unsupported: packing with ZIP method 6 (implode); --method deflate packs it so that every "
                 "reader knows it");
  }
}

struct Encrypted : testing::TestWithParam<std::pair<int, int>> {  // AES strength (0: traditional), version
  static Held open_with(const Bytes& zip, const std::string& password) {
    return open_bytes(zip, "kiosk.zip", As::file, [&](OpenContext& context) {
      context.keys.add({password, "a test"});
    });
  }
  Bytes build(const std::string& codec = "deflate", std::uint16_t method = 8) const {
    auto [strength, version] = GetParam();
    ZipBuilder builder;
    for (const char* name : {"a", "b", "c"}) {
      builder.add({.name = name,
                   .data = long_text(),
                   .codec = codec,
                   .method = method,
                   .password = "limpet",
                   .aes_strength = strength,
                   .aes_version = version});
    }
    return builder.build();
  }
};

TEST_P(Encrypted, OpensWithTheRightPassword) {
  EXPECT_EQ(text_at(*open_with(build(), "limpet"), "b"), as_text(long_text()));
  EXPECT_EQ(text_at(*open_with(build("stored", 0), "limpet"), "b"), as_text(long_text()));
  EXPECT_TRUE(entry_at(*open_with(build(), "limpet"), "a").is(Entry::encrypted));
}

TEST_P(Encrypted, TellsAWrongPasswordFromNone) {
  EXPECT_REFUSAL(text_at(*open_bytes(build()), "a"), NeedsKey,
                 "a password is needed; give it with --password-file, in OPERCULUM_PASSWORD or in keys.toml");
  for (int i = 0; i < 300; ++i) {  // a traditional check byte alone would let about one of these pass
    EXPECT_REFUSAL(open_with(build("stored", 0), "whelk" + std::to_string(i))->content(0), NeedsKey,
                   "wrong password (1 tried)")
        << i;
    if (GetParam().first != 0) break;
  }
}

TEST_P(Encrypted, TellsDamageFromAWrongPassword) {
  Bytes zip = build();
  zip[90] ^= 1;  // within the first entry's data
  Held opened = open_with(zip, "limpet");
  EXPECT_REFUSAL(text_at(*opened, "a"), Malformed, "deflate data near packed offset ");
  EXPECT_EQ(text_at(*opened, "b"), as_text(long_text()));
}

INSTANTIATE_TEST_SUITE_P(Kinds, Encrypted,
                         testing::Values(std::pair{0, 0}, std::pair{1, 1}, std::pair{1, 2}, std::pair{2, 2},
                                         std::pair{3, 1}, std::pair{3, 2}));

TEST(Zip, IsNotSeenInBytesThatOnlyHoldItsMark) {
  EXPECT_EQ(open_bytes(ByteWriter().text("PK\3\4").zeros(100).take()).format(), "none");
  EXPECT_EQ(open_bytes(ByteWriter().zeros(5000).text("PK\5\6").zeros(18).take()).format(), "none");
}

TEST(Zip, SurvivesEveryCut) {
  Bytes zip = ZipBuilder()
                  .folder("pool")
                  .add("pool/a", "alpha alpha alpha")
                  .stored("b", to_bytes("beta"))
                  .link("l", "b")
                  .add({.name = "d", .data = to_bytes("delta"), .descriptor = true})
                  .comment("end")
                  .build();
  EXPECT_GT(read_every_prefix(zip, "sample.zip"), zip.size() / 4) << "most cuts still list what came before";
}

TEST(Zip, SurvivesEveryFlippedByte) {
  Bytes zip = ZipBuilder()
                  .folder("pool")
                  .add("pool/a", "alpha alpha alpha")
                  .stored("b", to_bytes("beta"))
                  .zip64()
                  .build();
  std::size_t refused = 0, opened = 0;
  for (std::size_t at = 0; at < zip.size(); ++at) {
    Bytes damaged = zip;
    damaged[at] ^= 0xff;
    try {
      Held held = open_bytes(damaged, "sample.zip");
      if (held.format() == "none") continue;
      ++opened;
      held->walk([](const Visit& visit) {
        if (visit.content) read_all(*visit.content->stream(), 1 << 20);
        return true;
      });
    } catch (const Error&) {
      ++refused;
    }
  }
  EXPECT_GT(opened, 0u);
  EXPECT_GT(refused, 0u);
}

TEST(Zip, WithoutEntriesButWithBytesInFrontOfItsEndIsEmpty) {
  // What is left when the last entry is removed from an archive that has a few bytes behind its directory.
  Bytes bytes = ByteWriter().text("odd!").text("PK\5\6").u32(0).u16(0).u16(0).u32(4).u32(0).u16(0).take();
  OpenContext context;
  ContainerPtr zip = zip_format().open({make_content(make_memory_source(bytes)), "empty.zip"}, context);
  EXPECT_TRUE(zip->entries().empty());
  EXPECT_TRUE(zip->findings().empty());
}

/// What follows a local header is read in two steps; the file ends where the first one does.
TEST(Zip, AHeaderThatIsCutWhereAReadEndsIsToldOnce) {
  constexpr std::size_t kFirstRead = 512, kNameSizeAt = 26;
  Bytes zip = ZipBuilder().stored("a.txt", to_bytes("calm")).build();
  zip = ZipBuilder().stored("a.txt", Bytes(kFirstRead - zip.size() + 4, Byte{'c'})).build();
  ASSERT_EQ(zip.size(), kFirstRead);
  zip[kNameSizeAt + 1] = 0x41;
  EXPECT_REFUSAL(text_at(*open_bytes(zip), "a.txt"), Malformed, "zip local header");
}

}  // namespace
}  // namespace operculum

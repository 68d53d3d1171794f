#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/checksum.h"
#include "codec/codec.h"
#include "io/block_source.h"
#include "support/byte_writer.h"
#include "support/compress_writer.h"
#include "support/has.h"
#include "support/lzo_writer.h"
#include "support/open.h"
#include "support/program.h"
#include "support/refusal.h"
#include "support/sample_tree.h"
#include "support/sentence.h"
#include "support/system_tools.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

using namespace test;

/// Packs by codec name; the program itself does not write .Z.
Bytes pack(const std::string& codec, const Bytes& plain) {
  return codec == "compress" ? write_compress(plain) : encode(codec, plain);
}

struct StreamCase {
  const char* codec;
  const char* format;
  const char* ending;
};
struct Streams : testing::TestWithParam<StreamCase> {};

TEST_P(Streams, AreRecognisedByContentAndNamedByEnding) {
  auto [codec, format, ending] = GetParam();
  std::string text(6000, 't');
  Bytes packed = pack(codec, to_bytes(text));
  Held held = open_bytes(packed, std::string("notes.txt") + ending);
  EXPECT_EQ(held.format(), format);
  EXPECT_EQ(paths_of(*held), "notes.txt");
  EXPECT_EQ(text_of(*held, 0), text);
  EXPECT_EQ(open_bytes(packed, "renamed.bin").format(), format) << "the name does not matter";
  EXPECT_EQ(text_of(*open_bytes(packed, "s", As::stream), 0), text);
}

/// A .Z file has no end mark, so that a cut cannot be seen: what is read is then the front of the whole.
void cut_without_an_end_mark() {
  std::string text = "the tide comes in, the tide goes out";
  Bytes packed = write_compress(to_bytes(text));
  for (std::size_t size = 0; size < packed.size(); ++size) {
    try {
      Held held =
          open_bytes(Bytes(packed.begin(), packed.begin() + static_cast<std::ptrdiff_t>(size)), "notes.Z");
      if (held.format() != "compress") continue;
      EXPECT_TRUE(text.starts_with(text_of(*held, 0))) << size;
    } catch (const Error&) {
      continue;  // told
    }
  }
}

TEST_P(Streams, SurviveEveryCut) {
  auto [codec, format, ending] = GetParam();
  if (std::string_view(codec) == "compress") return cut_without_an_end_mark();
  read_every_prefix(pack(codec, to_bytes("the tide comes in, the tide goes out")),
                    std::string("notes") + ending);
  Bytes packed = pack(codec, to_bytes(std::string(3000, 'x')));
  packed.resize(packed.size() - 3);
  Held held = open_bytes(packed, std::string("notes") + ending);
  ASSERT_EQ(held.format(), format);
  EXPECT_REFUSAL(text_of(*held, 0), Error, "data: it ");
}

INSTANTIATE_TEST_SUITE_P(All, Streams,
                         testing::Values(StreamCase{"gzip", "gzip", ".gz"}, StreamCase{"zlib", "zlib", ".zz"},
                                         StreamCase{"bzip2", "bzip2", ".bz2"}, StreamCase{"xz", "xz", ".xz"},
                                         StreamCase{"lzma-alone", "lzma", ".lzma"},
                                         StreamCase{"zstd", "zstd", ".zst"}, StreamCase{"lz4", "lz4", ".lz4"},
                                         StreamCase{"compress", "compress", ".Z"}));

// ---- LZMA without its usual header

struct OddLzma {
  const char* name;
  Bytes (*front)(const Bytes& properties, std::uint32_t size);
  bool sized;
};
struct OddLzmaStreams : testing::TestWithParam<OddLzma> {};

/// Properties, window and data of an .lzma file that ends with a mark.
std::pair<Bytes, Bytes> lzma_parts(const std::string& text) {
  StreamPtr plain = make_source_stream(make_memory_source(to_bytes(text)));
  Bytes packed = read_all(*open_encoder("lzma-alone", std::move(plain)), 1 << 20);
  return {Bytes(packed.begin(), packed.begin() + 5), Bytes(packed.begin() + 13, packed.end())};
}

TEST_P(OddLzmaStreams, AreReadWithAndWithoutASize) {
  std::string text;
  for (int i = 0; i < 900; ++i) text += "station " + std::to_string(i) + "\n";
  auto [properties, data] = lzma_parts(text);
  Bytes bytes = GetParam().front(properties, static_cast<std::uint32_t>(text.size()));
  bytes.insert(bytes.end(), data.begin(), data.end());
  Held held = open_bytes(bytes, "part.bin");
  ASSERT_EQ(held.format(), "lzma-odd");
  EXPECT_EQ(text_of(*held, 0), text);
  if (GetParam().sized) EXPECT_EQ(held->entries()[0].size, text.size());
  for (std::size_t size = 20; size < bytes.size(); ++size) {  // a cut one is of another kind, or fails
    Bytes front(bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(size));
    bool told = false;
    try {
      Held cut = open_bytes(front, "part.bin");
      told = cut.format() != "lzma-odd" || text_of(*cut, 0) != text;
    } catch (const Error&) {
      told = true;
    }
    EXPECT_TRUE(told) << size;
  }
}
INSTANTIATE_TEST_SUITE_P(
    Forms, OddLzmaStreams,
    testing::Values(
        OddLzma{"bare", [](const Bytes& p, std::uint32_t) { return p; }, false},
        OddLzma{"behind",
                [](const Bytes& p, std::uint32_t size) { return ByteWriter().bytes(p).u32(size).take(); },
                true},
        OddLzma{"in_front",
                [](const Bytes& p, std::uint32_t size) { return ByteWriter().u32(size).bytes(p).take(); },
                true},
        OddLzma{"in_front_big",
                [](const Bytes& p, std::uint32_t size) { return ByteWriter().u32be(size).bytes(p).take(); },
                true},
        OddLzma{"in_front_wide",
                [](const Bytes& p, std::uint32_t size) { return ByteWriter().u64(size).bytes(p).take(); },
                true}),
    [](const auto& info) { return info.param.name; });

TEST(OddLzmaStream, IsToldOfAFrontThatOnlyAStreamGives) {
  auto [properties, data] = lzma_parts(std::string(20'000, 'x') + "end");
  Bytes bytes = properties;
  bytes.insert(bytes.end(), data.begin(), data.end());
  bytes.resize(300'000, 0xEE);  // longer than a first look
  Held held = open_bytes(bytes, "part.bin", As::stream);
  EXPECT_EQ(held.format(), "lzma-odd");
}

TEST(OddLzmaStream, OtherPropertiesThatPackersAreAskedFor) {
  for (Byte properties : {0x5A, 0x5E, 0x6C, 0x6D, 0x6E}) {
    std::string text;
    for (int i = 0; i < 900; ++i) text += "gauge " + std::to_string(i) + "\n";
    PackSettings settings;
    settings.properties = {properties, 0, 0, 0x10, 0};
    Bytes packed = encode("lzma", to_bytes(text), settings);
    Bytes bytes = ByteWriter().u32(static_cast<std::uint32_t>(text.size())).bytes(packed).take();
    Held held = open_bytes(bytes, "part.bin");
    ASSERT_EQ(held.format(), "lzma-odd") << int{properties};
    EXPECT_EQ(text_of(*held, 0), text);
    Bytes dump = noise(3000);
    dump.insert(dump.end(), bytes.begin(), bytes.end());
    Held found = open_by_search(dump);
    EXPECT_EQ(paths_of(*found), "offset-00000bb8") << int{properties};
  }
}

// ---- raw deflate

std::string tide_lines(int count) {
  std::string text;
  for (int i = 0; i < count; ++i) text += "tide " + std::to_string(i * i % 1009) + "\n";
  return text;
}

TEST(RawDeflate, IsToldByItsCodesAndByDecoding) {
  for (int lines : {300, 200'000}) {  // all in one look, and beyond it
    std::string text = tide_lines(lines);
    Bytes packed = encode("deflate", to_bytes(text));
    Held held = open_bytes(packed, "notes.deflate");
    ASSERT_EQ(held.format(), "deflate") << lines;
    EXPECT_EQ(held->entries()[0].path, "notes");
    EXPECT_EQ(text_of(*held, 0), text);
    EXPECT_EQ(open_bytes(packed, "part.bin", As::stream).format(), "deflate");
  }
  Bytes packed = encode("deflate", to_bytes(tide_lines(300)));
  for (std::size_t size = 1; size < packed.size();
       size += 7)  // a short one that does not end is not believed
    EXPECT_NE(
        open_bytes(Bytes(packed.begin(), packed.begin() + static_cast<std::ptrdiff_t>(size)), "a").format(),
        "deflate");
  packed.push_back('x');
  EXPECT_NE(open_bytes(packed, "a").format(), "deflate");
}

TEST(RawDeflate, IsFoundBySearchingWithItsEnd) {
  Bytes dump = noise(700);
  auto append = [&](const Bytes& part) {
    std::size_t at = dump.size();
    dump.insert(dump.end(), part.begin(), part.end());
    return at;
  };
  Bytes raw = encode("deflate", to_bytes(tide_lines(3000))),
        zlib = encode("zlib", to_bytes(tide_lines(2000)));
  Bytes gzip = encode("gzip", to_bytes(tide_lines(900)));
  std::size_t raw_at = append(raw);
  append(Bytes(50, 0xFF));
  std::size_t zlib_at = append(zlib), second_at = append(zlib);
  append(noise(2 << 20, 5));  // beyond the next block
  std::size_t gzip_at = append(gzip), last_at = append(raw);
  append(noise(30, 6));
  Held held = open_by_search(dump);
  ASSERT_EQ(held.format(), "searched");
  EXPECT_EQ(paths_of(*held),
            fmt::format("offset-{:08x}.deflate offset-{:08x}.zz offset-{:08x}.zz offset-{:08x}.gz "
                        "offset-{:08x}.deflate",
                        raw_at, zlib_at, second_at, gzip_at, last_at));
  EXPECT_EQ(held->entries()[0].size, raw.size());
  EXPECT_EQ(held->entries()[1].size, zlib.size());
  EXPECT_EQ(held->entries()[3].size, gzip.size());
  EXPECT_EQ(held->entries()[4].size, raw.size());
}

TEST(RawDeflate, IsNotSoughtWhereAWrapperIsBrokenNorInPictures) {
  Bytes zlib = encode("zlib", to_bytes(tide_lines(2000))), damaged = zlib;
  damaged.back() ^= 1;
  for (const Bytes& part : {damaged, ByteWriter().text("IDAT").bytes(zlib).take()}) {
    Bytes dump = noise(700);
    dump.insert(dump.end(), part.begin(), part.end());
    Held held = open_by_search(dump);
    EXPECT_EQ(held.format(), "none");
  }
}

// ---- LZO files

TEST(LzoFile, IsReadWithEitherChecksum) {
  for (bool crc : {false, true}) {
    Bytes two = lzo_file("high water\n", crc), second = lzo_file("low water\n", crc);
    two.insert(two.end(), second.begin(), second.end());
    Held held = open_bytes(two, "x.bin");
    ASSERT_EQ(held.format(), "lzo");
    EXPECT_EQ(paths_of(*held), "tide.csv");
    EXPECT_EQ(text_of(*held, 0), "high water\nlow water\n");
    EXPECT_EQ(held->entries()[0].modified.seconds, 1772373908);
    read_every_prefix(lzo_file("high water\n", crc), "x.lzo");
  }
}

TEST(LzoFile, DamageIsTold) {
  Bytes file = lzo_file("high water\n", true);
  file[file.size() - 8] ^= 1;
  EXPECT_TRUE(
      has(sentence([&] { text_of(*open_bytes(file), 0); }), "LZO file: the checksum of a block differs"));
  file = lzo_file("high water\n", true);
  file[12] ^= 1;
  EXPECT_TRUE(has(sentence([&] { open_bytes(file); }), "the checksum of the header differs"));
}

TEST(LzoFile, OfItsMakersProgramIsRead) {
  NEEDS("lzop");
  TempFolder folder;
  std::string text;
  for (int i = 0; i < 60'000; ++i) text += std::to_string(i * 37 % 521) + " cm\n";
  folder.write("tide.csv", text);
  for (const char* level : {"-1", "-9"}) {
    tool("lzop", {level, "-f", "-o", "out.lzo", "tide.csv"}, folder.path());
    Held held = open_bytes(to_bytes(folder.read("out.lzo")));
    ASSERT_EQ(held.format(), "lzo") << level;
    EXPECT_EQ(text_of(*held, 0), text) << level;
  }
}

TEST(CompressStream, EveryWidthAndTheClearCode) {
  std::string text;
  for (unsigned i = 0; text.size() < 200'000; i = i * 1664525 + 1013904223) text += "abcdefgh"[(i >> 20) % 8];
  for (unsigned widest = 10; widest <= 16; ++widest) {
    Held held = open_bytes(write_compress(to_bytes(text), widest), "tides.Z");
    EXPECT_EQ(text_of(*held, 0), text) << widest;
  }
}

TEST(CompressStream, ACutIsNeverLongerThanTheWhole) {
  std::string text = "the tide comes in, the tide goes out, the tide comes in";
  Bytes packed = write_compress(to_bytes(text));
  for (std::size_t size = 3; size < packed.size(); ++size) {
    Bytes cut(packed.begin(), packed.begin() + static_cast<std::ptrdiff_t>(size));
    Bytes got;
    auto stream = open_decoder("compress", make_source_stream(make_memory_source(cut)));
    try {
      got = read_all(*stream, 1000);
    } catch (const Malformed&) {
      continue;
    }
    EXPECT_TRUE(text.starts_with(as_text(got))) << size;  // the format has no end mark: a cut cannot be seen
  }
}

TEST(Gzip, AMissingTrailerIsToldApartFromMissingData) {
  std::string text;
  for (int i = 0; i < 90'000; ++i) text += std::to_string(i * 37 % 521) + " cm\n";
  Bytes packed = encode("gzip", to_bytes(text));
  for (std::size_t trailer_left : {0, 3, 7}) {
    Bytes cut(packed.begin(), packed.end() - 8 + static_cast<std::ptrdiff_t>(trailer_left));
    StreamPtr stream = open_decoder("gzip", make_source_stream(make_memory_source(cut)));
    std::string got;
    Bytes block(5000);
    std::string why = sentence([&] {
      while (std::size_t count = stream->read(block)) got += as_text(ByteView(block).first(count));
    });
    EXPECT_EQ(got, text);
    EXPECT_TRUE(has(why, "it is all there, but not the checksum and size behind it")) << why;
  }
  packed.resize(packed.size() - 12);
  EXPECT_TRUE(has(sentence([&] {
                    read_all(*open_decoder("gzip", make_source_stream(make_memory_source(packed))), 1 << 24);
                  }),
                  "it ends too early"));
}

TEST(Gzip, TellsNameTimeAndComment) {
  Bytes raw = encode("gzip", to_bytes("pinch"));
  Bytes packed = ByteWriter()
                     .text("\x1f\x8b\x08")
                     .u8(0x08 | 0x10)
                     .u32(1772373908)
                     .u8(0)
                     .u8(3)
                     .text("M\xe4rz.txt")
                     .u8(0)
                     .text("a crab")
                     .u8(0)
                     .bytes(ByteView(raw).subspan(10))
                     .take();
  Held held = open_bytes(packed, "x.gz");
  EXPECT_EQ(paths_of(*held), "März.txt");
  EXPECT_EQ(to_text(held->entries()[0].modified), "2026-03-01 14:05:08Z");
  EXPECT_EQ(held->entries()[0].extra->comment, "a crab");
  EXPECT_EQ(text_of(*held, 0), "pinch");
}

TEST(Gzip, StoredNamesCannotClimb) {
  Bytes raw = encode("gzip", to_bytes("x"));
  auto named = [&](const std::string& name) {
    return ByteWriter()
        .text("\x1f\x8b\x08")
        .u8(0x08)
        .u32(0)
        .u8(0)
        .u8(3)
        .text(name)
        .u8(0)
        .bytes(ByteView(raw).subspan(10))
        .take();
  };
  EXPECT_EQ(paths_of(*open_bytes(named("../../etc/passwd"), "x.gz")), "passwd");
  EXPECT_EQ(paths_of(*open_bytes(named(".."), "x.gz")), "x");
}

TEST(Streams, AreNotSeenWhereOnlyTheMagicFits) {
  EXPECT_EQ(open_bytes(to_bytes("\x1f\x8b\x08 and then some other text that is no deflate data")).format(),
            "none");
  EXPECT_EQ(open_bytes(to_bytes("BZh9 is how a bzip2 file begins")).format(), "none");
  EXPECT_EQ(open_bytes(ByteWriter().u32(0xFD2FB528).text("not zstd at all, as you see").take()).format(),
            "none");
  EXPECT_EQ(open_bytes(to_bytes("x\x9c is how zlib data begins")).format(), "none");
  EXPECT_EQ(open_bytes(Bytes(4000)).format(), "none");
  EXPECT_EQ(open_bytes({}).format(), "none");
}

TEST(Xz, OfSeveralBlocksGivesRandomAccess) {
  if (!on_path("xz")) GTEST_SKIP() << "this machine has no xz program";
  TempFolder temp;
  std::string text;
  for (int i = 0; i < 40000; ++i) text += "tide " + std::to_string(i) + "\n";
  temp.write("plain", text);
  ASSERT_EQ(run("xz", {"-k", "--block-size=65536", "plain"}, temp.path()).exit_code, 0);
  Held held = open_bytes(to_bytes(temp.read("plain.xz")), "plain.xz");
  EXPECT_EQ(held->entries()[0].size, text.size());
  SourcePtr source = held->content(0)->source();
  ASSERT_TRUE(source);
  EXPECT_TRUE(source->costly());
  EXPECT_EQ(as_text(read_up_to(*source, 200'000, 20)), text.substr(200'000, 20));
  EXPECT_EQ(text_of(*held, 0), text);
}

TEST(Zstd, WithASeekTableGivesRandomAccess) {
  ByteWriter packed, table;
  std::string text;
  for (int i = 0; i < 3; ++i) {
    std::string part(1000, static_cast<char>('a' + i));
    Bytes frame = encode("zstd", to_bytes(part));
    packed.bytes(frame);
    table.u32(frame.size()).u32(part.size());
    text += part;
  }
  packed.u32(0x184D2A5E).u32(table.size() + 9).bytes(table.view()).u32(3).u8(0).u32(0x8F92EAB1);
  Held held = open_bytes(packed.take(), "x.zst");
  EXPECT_EQ(held->entries()[0].size, 3000u);
  SourcePtr source = held->content(0)->source();
  ASSERT_TRUE(source);
  EXPECT_EQ(as_text(read_up_to(*source, 1998, 4)), "bbcc");
  EXPECT_EQ(text_of(*held, 0), text);
}

TEST(Xz, SaysWhenItsIndexIsMissing) {
  Bytes packed = encode("xz", to_bytes(std::string(5000, 'x')));
  packed.resize(packed.size() - 12);
  Held held = open_bytes(packed, "x.xz");
  EXPECT_TRUE(has_finding(*held, "the xz index at the end is missing or damaged"));
}

}  // namespace
}  // namespace operculum

// The language, construct by construct: a description, a few bytes, and what comes out.
#include <gtest/gtest.h>

#include "codec/codec.h"
#include "support/language_case.h"
#include "support/lzx_writer.h"
#include "support/pack_tools.h"
#include "support/xpress_writer.h"

namespace operculum {
namespace {

using namespace test;

// ---- 1. tables: where they begin and how they end

TEST(Tables, BeginAtAPlaceCountedFromTheEnd) {
  Described d(R"(
    record Tail { at u32
                  count u16 }
    tail = Tail at end - 6
    items = u8[tail.count] at tail.at
    entry for i in items { path = "{i}"
                           data = bytes(0, i) })",
              ByteWriter().text("abcdef").u8(3).u8(1).u32(6).u16(2).take());
  EXPECT_EQ(d.listing(), "3=abc 1=a");
}

TEST(Tables, AreFoundByAMarkBehindOtherData) {
  Described d(R"(
    place = find("MARK") else 0
    last = find_last("MARK") else 0
    entry { path = "{place}-{last}"
            data = bytes(place + 4, 2) })",
              to_bytes("#!/bin/sh\nexit\nMARKab..MARKcd"));
  EXPECT_EQ(d.listing(), "15-23=ab");
}

TEST(Tables, EndByCountSizeRoomOrSentinel) {
  Described d(R"(
    record Item { size u8
                  name text[1] }
    record All {
      a Item[2]
      b Item[] within 4
      c Item[] until it.size == 0
      d Item[] while it.name != "x"
      e text[1]
      rest Item[] to end
    }
    all = All at 0
    entry for n in [count(all.a), count(all.b), count(all.c), count(all.d), count(all.rest)] number i {
      path = "{i}-{n}"
      data = bytes(0, 0)
    })",
              to_bytes("\1a\1b"
                       "\1c\1d"
                       "\1e\0_"
                       "\1f\1g\1x"
                       "\1h\1i\1j"));
  EXPECT_NE(d.error().find("expected"), std::string::npos) << "number stands before in";
  Described right(R"(
    record Item { size u8
                  name text[1] }
    record All {
      a Item[2]
      b Item[] within 4
      c Item[] until it.size == 0
      d Item[] while it.name != "x"
      skip 2
      rest Item[] to end
    }
    all = All at 0
    entry for n number i in [count(all.a), count(all.b), count(all.c), count(all.d), count(all.rest)] {
      path = "{i}-{n}"
      data = bytes(0, 0)
    })",
                  ByteWriter().text("\1a\1b\1c\1d\1e").u8(0).text("_\1f\1g\1x\1h\1i\1j").take());
  EXPECT_EQ(right.listing(), "0-2= 1-2= 2-1= 3-2= 4-3=");
}

TEST(Tables, StandInDigitsToo) {
  Described d(R"(
    record Line { size decimal[4]
                  mode octal word
                  at hexadecimal until ";" }
    lines = Line[2] at 0
    entry for l in lines { path = "{l.mode}-{l.at}"
                           data = bytes(l.at, l.size) })",
              to_bytes("   2 755 1a;0003\t644 1A;..xyz..."));
  EXPECT_EQ(d.listing(), "493-26=xy 420-26=xyz");
}

// ---- 2. numbers

TEST(Numbers, OfEverySizeAndOrder) {
  Described d(R"(
    order big
    record N { a u16
               b u16le
               c i8
               d u24 little
               e i32be
               f u64 }
    n = N at 0
    entry { path = "{n.a} {n.b} {n.c} {n.d} {n.e} {n.f}"
            data = bytes(0, 0) })",
              ByteWriter()
                  .u8(1)
                  .u8(2)
                  .u8(1)
                  .u8(2)
                  .u8(0xff)
                  .u8(1)
                  .u8(0)
                  .u8(2)
                  .u8(0xff)
                  .u8(0xff)
                  .u8(0xff)
                  .u8(0xfe)
                  .zeros(7)
                  .u8(9)
                  .take());
  EXPECT_EQ(d.listing(), "258 513 -1 131073 -2 9=");
}

TEST(Numbers, OfVariableLength) {
  Described d(R"(
    record N { a leb128
               b sleb128
               c vlq }
    n = N at 0
    entry { path = "{n.a} {n.b} {n.c}"
            data = bytes(0, 0) })",
              Bytes{0xe5, 0x8e, 0x26, 0x7e, 0x81, 0x00});
  EXPECT_EQ(d.listing(), "624485 -2 128=");
}

TEST(Numbers, AreScaledShiftedMaskedAndSplitIntoBits) {
  Described d(R"(
    record N { base u8
               a u8 * 16 + 2
               b u8 xor 0x5a
               c u8 + base
               flags bits u16 { low: 4, middle: 8, high: 4 } }
    n = N at 0
    entry { path = "{n.a} {n.b} {n.c} {n.low} {n.middle:x} {n.high} {n.flags:04x}"
            data = bytes(0, 0) })",
              Bytes{10, 3, 0x5b, 4, 0x21, 0x43});
  EXPECT_EQ(d.listing(), "50 1 14 1 32 4 4321=");
}

TEST(Numbers, ChooseTheirOrderByAMark) {
  const char* text = R"(
    record N { mark text[2]
               order big when mark == "MM"
               value u16 }
    n = N at 0
    entry { path = "{n.value}"
            data = bytes(0, 0) })";
  EXPECT_EQ(Described(text, to_bytes("MM\1\2")).listing(), "258=");
  EXPECT_EQ(Described(text, to_bytes("II\1\2")).listing(), "513=");
}

TEST(Numbers, SizesFollowFromWhatComesNext) {
  Described d(R"(
    ats = u8[3] at 0
    entry for at in ats { path = "{at}"
                          data = bytes(at, above(at, end) - at)
                          comment = "{next_of(at, 99)}" })",
              to_bytes("\7\3\5abcde"));
  EXPECT_EQ(d.listing(), "7=e 3=ab 5=cd");
}

// ---- 3. names

TEST(Names, ArePaddedEndedSizedAndEncoded) {
  Described d(R"(
    record N { a text[5] padded 0
               b text[4] padded " "
               c text until 0
               d text sized u8
               e text[4] encoded "UTF-16LE"
               f text[1] encoded CP437
               g text word }
    n = N at 0
    entry { path = "{n.a}|{n.b}|{n.c}|{n.d}|{n.e}|{n.f}|{n.g}"
            data = bytes(0, 0) })",
              ByteWriter()
                  .text("ab")
                  .zeros(3)
                  .text("cd  ef")
                  .u8(0)
                  .u8(2)
                  .text("gh")
                  .text("i")
                  .u8(0)
                  .text("j")
                  .u8(0)
                  .u8(0x82)
                  .text(" kl ")
                  .take());
  EXPECT_EQ(d.listing(), "ab|cd|ef|gh|ij|\u00e9|kl=");
}

TEST(Names, ComeFromAStringTableOrAreMadeOfNumbers) {
  Described d(R"(
    record Item { name u8
                  size u8 }
    items = Item[2] at 0
    entry for i number n in items {
      path = "{(text until 0 at 4 + i.name)}.{n + 1:03}{ending(bytes(13, i.size))}"
      data = bytes(13, i.size)
    })",
              ByteWriter().u8(0).u8(4).u8(5).u8(2).text("crab").u8(0).text("eel").u8(0).text("wxyz").take());
  EXPECT_EQ(d.listing(), "crab.001.txt=wxyz eel.002.txt=wx");
}

TEST(Names, OfFoldersComeByParentNumber) {
  Described d(R"(
    record Folder { parent u8
                    name text[1] }
    folders = Folder[3] at 0
    define path_of(f): text = if f == 0 then "" else "{path_of(folders[f].parent)}{folders[f].name}/"
    entry for f in range(0, 3) { path = "{path_of(f)}x"
                                 data = bytes(0, 0) })",
              to_bytes(std::string("\0r\0a\1b", 6)));
  EXPECT_EQ(d.listing(), "x= a/x= a/b/x=");
}

TEST(Names, ThatGoRoundInACircleAreNoticed) {
  Described d(R"(
    parents = u8[2] at 0
    define path_of(f): text = "{path_of(parents[f])}/"
    entry { path = path_of(0)
            data = bytes(0, 0) })",
              Bytes{1, 0});
  d.listing();
  EXPECT_NE(d.first_finding().find("more than 300 levels deep"), std::string::npos) << d.first_finding();
}

TEST(Names, KnownByTheirHashAlone) {
  const char* text = R"(
    hashes = u32[2] at 0
    entry for h in hashes { path = known(fnv1a_32, h) else "{h:08x}"
                            data = bytes(0, 1) })";
  Bytes bytes = ByteWriter().u32(fnv1a_32("crab.png")).u32(0x1234).take();
  EXPECT_EQ(Described(text, bytes,
                      [](OpenContext& c) {
                        c.known_names = {"eel.png", "crab.png"};
                      })
                .paths(),
            "crab.png 00001234");
}

// ---- 4. trees

TEST(Trees, ChainsStopWhenTheyComeBack) {
  Described d(R"(
    links = u8[3] at 0
    entry for n in chain(i from 0 while i != 9 then links[i]) { path = "{n}"
                                                               data = bytes(0, 0) })",
              Bytes{1, 2, 0});
  d.listing();
  EXPECT_NE(d.first_finding().find("comes back to where it was after 3 links"), std::string::npos)
      << d.first_finding();
}

TEST(Lists, KnowTheirPlaceWhereverTheyAreRead) {
  Described d(R"(
    record Item { size u8
                  data bytes[size] }
    items = Item[] while (u8 at here) != 0 at 1
    entry for item number n in items { path = "{n}"
                                       data = item.data })",
              Bytes{9, 2, 'a', 'b', 1, 'c', 0, 7});
  EXPECT_EQ(d.listing(), "0=ab 1=c");
}

TEST(Trees, WithACircleAreRefused) {
  Described d(R"(
    entry for n in tree(i in [1] by [i % 3 + 1]) { path = "{n}"
                                                   data = bytes(0, 0) })",
              Bytes{0});
  d.listing();
  EXPECT_NE(d.first_finding().find("goes round in a circle"), std::string::npos) << d.first_finding();
}

// ---- 5. how data is stored

TEST(Data, GoesThroughChainsChosenByFields) {
  Bytes packed = encode("deflate", to_bytes(std::string(50, 'p')));
  for (Byte& b : packed) b ^= 0x11;
  Described d(R"(
    record Item { method u8
                  size u8 }
    items = Item[3] at 0
    entry for i number n in items {
      path = "{n}"
      data = bytes(6, i.size) | choose i.method {
        0: stored
        1: xor(0x11)
        else: rotate(4)
      } | when i.method == 1: deflate
    })",
              ByteWriter().u8(0).u8(1).u8(1).u8(packed.size()).u8(2).u8(1).bytes(packed).take());
  EXPECT_EQ(d.content("1"), std::string(50, 'p'));
  EXPECT_EQ(d.content("2"), std::string(1, static_cast<char>((packed[0] << 4 | packed[0] >> 4) & 0xff)));
}

TEST(Data, OfTheWholeRestIsDecodedOnce) {
  ByteWriter inner;
  inner.u8(2).u8(1).u8(3).text("abcd");
  Described d(R"(
    body = rest(4) | zlib
    sizes = u8[2] at 1 in body
    entry for s number i in sizes { path = "{i}"
                                    data = part(body, 3, s) })",
              ByteWriter().text("HEAD").bytes(encode("zlib", inner.view())).take());
  EXPECT_EQ(d.listing(), "0=a 1=abc");
}

struct StepCase {
  std::string call;
  Bytes packed;
  std::string plain;
};
struct Steps : testing::TestWithParam<StepCase> {};
TEST_P(Steps, GiveThePlainBytes) {
  const StepCase& one = GetParam();
  Described d("entry { path = \"x\"\ndata = rest(0) | " + one.call + " }", one.packed);
  EXPECT_EQ(d.content("x"), one.plain) << d.error() << d.first_finding();
}

std::string tide() {
  return "the tide comes in, the tide goes out, the tide comes in, the tide goes out, "
         "aaaaaaaaaaaaaaaaaaaaaaaa";
}
Bytes raw_lzma() {
  Bytes packed = encode("lzma", to_bytes(tide()));
  return Bytes(packed.begin() + 5, packed.end());
}

INSTANTIATE_TEST_SUITE_P(
    All, Steps,
    testing::Values(StepCase{"stored", to_bytes("a"), "a"}, StepCase{"take(2)", to_bytes("abc"), "ab"},
                    StepCase{"deflate", encode("deflate", to_bytes(tide())), tide()},
                    StepCase{"zlib", encode("zlib", to_bytes(tide())), tide()},
                    StepCase{"gzip", encode("gzip", to_bytes(tide())), tide()},
                    StepCase{"bzip2", encode("bzip2", to_bytes(tide())), tide()},
                    StepCase{"xz", encode("xz", to_bytes(tide())), tide()},
                    StepCase{"zstd", encode("zstd", to_bytes(tide())), tide()},
                    StepCase{"lz4", encode("lz4", to_bytes(tide())), tide()},
                    StepCase{"lzma_alone", encode("lzma-alone", to_bytes(tide())), tide()},
                    StepCase{"lzma(hex \"5d 00 00 80 00\", size = " + std::to_string(tide().size()) + ")",
                             raw_lzma(), tide()},
                    StepCase{"lzss", pack_lzss_ring(to_bytes(tide())), tide()},
                    StepCase{"lzss(window = 1024, token = \"llllllPP pppppppp\", offsets = \"back\", start = "
                             "0, flags = \"high\", literal = 0)",
                             pack_lzss_back(to_bytes(tide())), tide()},
                    StepCase{"lzh(size = " + std::to_string(tide().size()) + ")", pack_lzh(to_bytes(tide())),
                             tide()},
                    StepCase{"rle(\"packbits\")", pack_packbits(to_bytes(tide())), tide()},
                    StepCase{"rle(\"marked\", marker = 97)", pack_marked(to_bytes(tide()), 'a'), tide()},
                    StepCase{"rle(\"pairs\")", Bytes{3, 'a', 1, 'b'}, "aaab"},
                    StepCase{"rle(\"high_bit\")", Bytes{0x82, 'a', 1, 'b', 'c'}, "aaabc"},
                    StepCase{"rle(\"top_bits\")", Bytes{0xc3, 'a', 'b'}, "aaab"},
                    StepCase{"lz4_block", Bytes{0x10, 'a'}, "a"},
                    StepCase{"lzo(size = 3)", Bytes{0x14, 'a', 'b', 'c', 0x11, 0, 0}, "abc"}));

/// Ciphers against vectors that others published.
std::string from_hex(std::string_view hex) {
  std::string out;
  for (std::size_t i = 0; i + 1 < hex.size(); i += 2)
    out += static_cast<char>(std::stoi(std::string(hex.substr(i, 2)), nullptr, 16));
  return out;
}
StepCase vector_case(const char* call, const char* stored, const char* plain) {
  return {call, to_bytes(from_hex(stored)), from_hex(plain)};
}
INSTANTIATE_TEST_SUITE_P(
    Ciphers, Steps,
    testing::Values(
        StepCase{"xor(\"ab\", start = 1)", to_bytes(std::string{'x' ^ 'b', 'y' ^ 'a'}), "xy"},
        StepCase{"add(1)", to_bytes("`"), "a"}, StepCase{"subtract(1)", to_bytes("b"), "a"},
        StepCase{"rotate(1)", Bytes{0x81}, "\x03"}, StepCase{"lcg(7)", mix_lcg(to_bytes("surf"), 7), "surf"},
        vector_case("rc4(\"Key\")", "bbf316e8d940af0ad3", "506c61696e74657874"),
        vector_case("aes(hex \"2b7e151628aed2a6abf7158809cf4f3c\")", "3ad77bb40d7a3660a89ecaf32466ef97",
                    "6bc1bee22e409f96e93d7e117393172a"),
        vector_case("aes(hex \"2b7e151628aed2a6abf7158809cf4f3c\", mode = \"cbc\", iv = hex "
                    "\"000102030405060708090a0b0c0d0e0f\")",
                    "7649abac8119b246cee98e9b12e9197d", "6bc1bee22e409f96e93d7e117393172a"),
        vector_case("aes(hex \"2b7e151628aed2a6abf7158809cf4f3c\", mode = \"ctr\", iv = hex "
                    "\"f0f1f2f3f4f5f6f7f8f9fafbfcfdfeff\")",
                    "874d6191b620e3261bef6864990db6ce", "6bc1bee22e409f96e93d7e117393172a"),
        // IEEE 1619-2018, annex B, vectors 2 and 15; then units of 16 bytes, the same one each
        vector_case("aes_xts(hex \"1111111111111111111111111111111122222222222222222222222222222222\", "
                    "tweak = hex \"3333333333\")",
                    "c454185e6a16936e39334038acef838bfb186fff7480adc4289382ecd6d394f0",
                    "4444444444444444444444444444444444444444444444444444444444444444"),
        vector_case("aes_xts(hex \"fffefdfcfbfaf9f8f7f6f5f4f3f2f1f0bfbebdbcbbbab9b8b7b6b5b4b3b2b1b0\", "
                    "tweak = hex \"9a78563412\")",
                    "6c1625db4671522d3d7599601de7ca09ed", "000102030405060708090a0b0c0d0e0f10"),
        vector_case("des(hex \"133457799bbcdff1\")", "85e813540f0ab405", "0123456789abcdef"),
        vector_case("blowfish(hex \"0123456789abcdef\")", "61f9c3802281b096", "1111111111111111"),
        vector_case("tea(hex \"00000000000000000000000000000000\")", "41ea3a0a94baa940", "0000000000000000"),
        vector_case("xtea(hex \"000102030405060708090a0b0c0d0e0f\")", "497df3d072612cb5",
                    "4142434445464748")));

// ---- 8. variants and checksums

TEST(Variants, FieldsAreThereWhenTheirConditionHolds) {
  const char* text = R"(
    record N { version u8 in {1, 2}
               when version == 2 { extra u8 } else { size u16
                                                      name text sized u8 } }
    n = N at 0
    name = n.name else "none"
    entry { path = "{name}-{n.extra else 0}"
            data = bytes(0, 0) })";
  EXPECT_EQ(Described(text, to_bytes(std::string("\1\0\0\2ab", 6))).listing(), "ab-0=");
  EXPECT_EQ(Described(text, to_bytes("\2\7")).listing(), "none-7=");
  EXPECT_NE(Described(text, to_bytes("\3\7")).error().find("expected 1 or 2, found 3"), std::string::npos);
}

struct SumCase {
  const char* sum;
  std::uint64_t value;
};
struct Sums : testing::TestWithParam<SumCase> {};
TEST_P(Sums, AreComparedWithTheData) {
  auto [sum, value] = GetParam();
  std::string text =
      std::string("entry { path = \"x\"\ndata = rest(8)\ncheck ") + sum + " of data = u64 at 0 }";
  EXPECT_EQ(Described(text, ByteWriter().u64(value).text("123456789").take()).content("x"), "123456789")
      << sum;
  EXPECT_NE(Described(text, ByteWriter().u64(value ^ 1).text("123456789").take())
                .content_error("x")
                .find("differs"),
            std::string::npos)
      << sum;
}
INSTANTIATE_TEST_SUITE_P(
    All, Sums,
    testing::Values(SumCase{"crc32", 0xcbf43926}, SumCase{"crc16", 0xbb3d}, SumCase{"crc16_ccitt", 0x29b1},
                    SumCase{"crc16(0x1021, 0, 0, 1)", 0x2189}, SumCase{"crc32c", 0xe3069283},
                    SumCase{"adler32", 0x091e01de}, SumCase{"sum8", 0xdd}, SumCase{"sum16", 0x1dd},
                    SumCase{"sum32", 0x1dd}, SumCase{"xor8", 0x31}, SumCase{"words16", 0xd509},
                    SumCase{"crc32(0x04c11db7, 0xffffffff, 0, 0)", 0x0376e6e7}));

TEST(Checks, OfTheIndexAreToldAsFaults) {
  const char* text = R"(
    check crc32 of bytes(4, 3) = u32 at 0
    entry { path = "x"
            data = bytes(4, 3) })";
  EXPECT_EQ(Described(text, ByteWriter().u32(0x352441c2).text("abc").take()).first_finding(), "");
  Described wrong(text, ByteWriter().u32(1).text("abc").take());
  wrong.listing();
  EXPECT_NE(wrong.first_finding().find(
                "crc32 differs (stored 00000001, computed 352441c2); the header or the index is damaged"),
            std::string::npos)
      << wrong.first_finding();
}

// ---- 9. metadata

TEST(Metadata, TimesModesTagsAndFacts) {
  Described d(R"(
    fact title = "Reef"
    fact written = unix(0)
    entry { path = "x"
            data = bytes(0, 1)
            time = since("1904-01-01", 2082844800)
            created = filetime(116444736000000000)
            accessed = dos(0x5c61, 0x70a4)
            mode = 0o755
            kind = "note"
            comment = "low water" })",
              Bytes{1});
  d.listing();
  const Entry& entry = d.entries()[0];
  EXPECT_EQ(to_text(entry.modified), "1970-01-01 00:00:00Z");
  EXPECT_EQ(to_text(entry.extra->created), "1970-01-01 00:00:00Z");
  EXPECT_EQ(to_text(entry.extra->accessed), "2026-03-01 14:05:08");
  EXPECT_EQ(entry.mode, 0755u);
  EXPECT_EQ(entry.extra->type_tag, "note");
  EXPECT_EQ(entry.extra->comment, "low water");
  EXPECT_EQ(d.facts(), "title=Reef written=1970-01-01 00:00:00Z");
}

// ---- 10. requires

TEST(Requirements, MakeRecognitionStrict) {
  const char* text = R"(
    sizes = u8[2] at 0
    require sum(s in sizes: s) == file_size - 2 : "the sizes do not add up"
    entry for s in sizes { path = "{s}"
                           data = bytes(2, s) })";
  EXPECT_EQ(Described(text, to_bytes("\1\2abc")).listing(), "1=a 2=ab");
  EXPECT_NE(Described(text, to_bytes("\1\3abc")).error().find("line 4: the sizes do not add up"),
            std::string::npos);
}

// ---- mistakes while running

TEST(Mistakes, WhileReadingNameTheirLine) {
  auto error = [](const char* statement) {
    return Described(std::string(statement) + "\nentry { path = \"x\"\ndata = bytes(0, 0) }", Bytes{0, 1, 2})
        .error();
  };
  EXPECT_NE(error("a = 1 / (u8 at 0)").find("line 2: 1 is divided by zero"), std::string::npos)
      << error("a = 1 / (u8 at 0)");
  EXPECT_NE(error("a = u32[1000000] at 0").find("line 2: a table of 1000000 elements"), std::string::npos);
  EXPECT_NE(error("a = u32 at 2").find("line 2: expected 4 bytes at offset 2"), std::string::npos);
  EXPECT_NE(error("a = u8 at 9").find("offset 9 lies outside"), std::string::npos);
  EXPECT_NE(error("b = u8[2] at 0\na = b[5]").find("element 5 is wanted of a list of 2"), std::string::npos);
  EXPECT_NE(error("a = 0x7fffffffffffffff + (u8 at 1)").find("leaves the range of 64-bit numbers"),
            std::string::npos);
  EXPECT_NE(error("a = sum(i in range(0, 100000000): 1)").find("raise --max-entries"), std::string::npos)
      << error("a = sum(i in range(0, 100000000): 1)");
}

TEST(Mistakes, APartThatUnpacksToFarTooMuchIsStopped) {
  Described d(R"(
    body = rest(0) | zlib
    size = length(body)
    entry { path = "x"
            data = part(body, 0, 1) })",
              encode("zlib", Bytes(300 << 20)), [](OpenContext& c) { c.limits.max_ratio = 100; });
  EXPECT_NE(d.error().find("--max-ratio"), std::string::npos) << d.error();
}

TEST(Data, OfManyEntriesGivesBackWhatTheyMade) {
  Described d(R"(
    body = rest(4) | zlib
    entry for i in range(0, 2000) {
      let key  = concat(le32(i), sha256("{i}"))
      let mine = first(x in [i, i + 1] where x > 0)
      path = "{mine:04}-{text(key[0..1])}"
      data = part(body, i % 3, 1) | xor(key)
      comment = "{above(i, 7)}"
    })",
              ByteWriter().text("HEAD").bytes(encode("zlib", to_bytes("abc"))).take());
  ASSERT_EQ(d.entries().size(), 2000u);
  EXPECT_EQ(d.entries()[65].path, "0065-A");
  EXPECT_EQ(d.entries()[65].extra->comment, "66");
  EXPECT_EQ(d.content("0065-A"), std::string(1, 'c' ^ 65));
  EXPECT_EQ(d.content("0066-B"), std::string(1, 'a' ^ 66));
}

TEST(Mistakes, WorkIsBounded) {
  Described d(R"(
    a = sum(i in range(0, 10000): sum(k in range(0, 10000): 1))
    entry { path = "x"
            data = bytes(0, 0) })",
              Bytes{0});
  EXPECT_NE(d.error().find("takes more than"), std::string::npos) << d.error();
}

TEST(Language, PlacesOfLists) {
  Described d(R"(record Row {
  size u8
  name text[size]
}
count = u8 at 0
rows  = Row[count] at 1
words = u16[2] at end_of(rows)
entry {
  path = "{offset_of(rows)}-{end_of(rows)}-{offset_of(words)}-{end_of(words)}"
  data = bytes(end_of(words), 4)
}
)",
              to_bytes("\x02\x01"
                       "a"
                       "\x03"
                       "bcd"
                       "1234tail"));
  EXPECT_EQ(d.listing(), "1-7-7-11=tail");
  Described none(
      "record Row {\n  size u8\n  name text[size]\n}\nrows = Row[0] at 1\n"
      "entry {\n  path = \"{end_of(rows)}\"\n  data = bytes(0, 1)\n}\n",
      to_bytes("abc"));
  EXPECT_EQ(none.paths(), "1") << "an empty list that was read ends where it begins";
}

TEST(Language, TextsBytesAndHashes) {
  auto value = [](const std::string& expression) {
    return Described("entry {\n  path = \"x\"\n  data = concat(" + expression + ", zeros(0))\n}\n",
                     to_bytes("tide"))
        .listing();
  };
  EXPECT_EQ(value("unhex(\"74 69 6445\")"), "x=tidE");
  EXPECT_EQ(value("raw(\"h\\u{f6}he\", \"ISO-8859-1\")"), "x=h\xF6he");
  EXPECT_EQ(value("raw(hex(bytes(0, 4)))"), "x=74696465");
  EXPECT_EQ(value("be32(hash(\"fnv1a_32\", \"a\"))"), "x=\xE4\x0C\x29\x2C");
  EXPECT_EQ(value("be16(checksum(\"crc16\", raw(\"123456789\")))"), "x=\xBB\x3D");
  EXPECT_EQ(value("be16(checksum(\"crc16\", raw(\"123456789\"), 0x1021, 0xffff, 0, 0))"), "x=\x29\xB1");
  EXPECT_EQ(value("be32(checksum(\"sum32\", bytes(0, 4)))"), std::string("x=\0\0\x01\xA6", 6));
  EXPECT_EQ(value("unhex(\"7\")"), "x=..");
  EXPECT_EQ(value("be32(hash(\"none\", \"a\"))"), "x=..");
  EXPECT_EQ(value("be32(checksum(\"sha256\", \"a\"))"), "x=..");
}

TEST(Language, ListsBehindEachOther) {
  Described d(R"(record Row {
  id u8
}
first  = Row[2] at 0
second = Row[1] at 3
all    = lists(first, second)
more   = lists([1, 2], each(r in all: r.id))
entry for n number i in more {
  path = "{i}-{n}"
  data = bytes(0, 1)
}
)",
              to_bytes("\x07\x08..\x09"));
  EXPECT_EQ(d.paths(), "0-1 1-2 2-7 3-8 4-46");
  EXPECT_NE(
      Described("x = lists([1], [\"a\"])\nentry {\n  path = \"x\"\n  data = bytes(0, 1)\n}\n", to_bytes("a"))
          .error(),
      "");
}

TEST(Language, LetsThatAreThereOnlySometimes) {
  Described d(R"(record Item {
  kind u8
  let name = "note-{kind}" when kind > 1
}
items = Item[3] at 0
entry for item in items {
  path = item.name else "plain"
  data = bytes(0, 1)
}
)",
              to_bytes("\x01\x02\x03"));
  EXPECT_EQ(d.paths(), "plain note-2 note-3");
}

TEST(Language, MoreCodecs) {
  std::string text;
  for (int i = 0; i < 300; ++i) text += "reading " + std::to_string(i * 37 % 500) + " of the gauge\n";
  auto unpacked = [&](const Bytes& packed, const std::string& codec) {
    return Described("entry {\n  path = \"x\"\n  data = bytes(0, " + std::to_string(packed.size()) + ") | " +
                         codec + "\n  size = " + std::to_string(text.size()) + "\n}\n",
                     packed)
        .content("x");
  };
  EXPECT_EQ(unpacked(pack_xpress(as_bytes(text)), "xpress"), text);
  EXPECT_EQ(unpacked(pack_lzx_chunk(as_bytes(text), 16), "lzx(16)"), text);
  Described missing(R"(entry {
  path = "x"
  data = bytes(0, 4) | missing("Crumb 2")
  size = 9
}
)",
                    to_bytes("tide"));
  ASSERT_EQ(missing.entries().size(), 1u);
  EXPECT_EQ(missing.entries()[0].size, 9u);
  EXPECT_EQ(missing.entries()[0].stored_size, 4u);
  EXPECT_EQ(missing.listing(), "x=..");
}

TEST(Language, EndingsWithDigitsDashesAndSeveralParts) {
  layout::Compiled compiled =
      layout::compile({"test.layout",
                       "layout \"Test\"\nsuffix .1c .x-pack .tar.Shoal .b2\nentry {\n  path = \"x\"\n"
                       "  data = bytes(0, 1)\n}\n"});
  ASSERT_TRUE(compiled.plan) << compiled.problems.front().text;
  EXPECT_EQ(compiled.plan->suffixes, (std::vector<std::string>{".1c", ".x-pack", ".tar.shoal", ".b2"}));
}

}  // namespace
}  // namespace operculum

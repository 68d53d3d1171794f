// What goes wrong in one place of a described container costs only that, is told once, and is never passed
// over.
#include <gtest/gtest.h>

#include "base/checksum.h"
#include "container/format.h"
#include "support/has.h"
#include "support/language_case.h"

namespace operculum::test {
namespace {

TEST(EntryChecks, OfOtherBytesAreComparedWithTheEntry) {
  const char* text = R"(
    record Item { at u8
                  sum u32 }
    items = Item[2] at 0
    entry for i number n in items { path = "{n}"
                                    data = bytes(i.at, 2)
                                    check crc32 of bytes(i.at - 4, 4) = i.sum })";
  auto sum = [](std::string_view words) { return crc32(0, as_bytes(words)); };
  Bytes bytes = ByteWriter().u8(14).u32(sum("head")).u8(20).u32(7).text("headAAbeadBB").take();
  Described d(text, bytes);
  EXPECT_EQ(d.content("0"), "AA");
  EXPECT_NE(d.content_error("1").find("crc32 differs (stored 00000007"), std::string::npos) << d.content("1");
}

TEST(EntryChecks, ThatAreNotStatedAreNotCounted) {
  Described d(R"(
    record Item { summed u8
                  sum u32 when summed == 1 }
    item = Item at 0
    entry { path = "a"
            data = bytes(1, 2)
            check crc32 of data = item.sum })",
              ByteWriter().u8(0).text("AA").take());
  EXPECT_EQ(d.content("a"), "AA");
  EXPECT_FALSE(d.entries()[0].is(Entry::has_sum));
}

TEST(EntryVariables, AreEvaluatedWhenTheyAreUsed) {
  Described d(R"(
    sizes = u8[3] at 0
    entry for s number n in sizes where s > 0 {
      let far = 100 / s
      let name = "file{n}"
      path = name
      comment = "{far}"
      data = bytes(3, s)
    })",
              ByteWriter().u8(0).u8(2).u8(1).text("abc").take());
  EXPECT_EQ(d.listing(), "file1=ab file2=a") << d.first_finding();
  EXPECT_EQ(d.first_finding(), "");
  EXPECT_EQ(d.entries()[0].extra->comment, "50");
}

TEST(EntryVariables, ThatFailCostWhatUsesThem) {
  Described d(R"(
    sizes = u8[2] at 0
    entry for s number n in sizes {
      let far = bytes(100 / s, 1)
      path = "file{n}"
      data = far
    })",
              ByteWriter().u8(0).u8(50).text("abc").take());
  EXPECT_EQ(d.listing(), "file0=.. file1=a");
}

TEST(EntryVariables, MayHoldExpressionsWithVariablesOfTheirOwn) {
  Described d(R"(
    sizes = u8[3] at 0
    entry for s number n in sizes {
      let total = sum(x in sizes: x * 2)
      let most = most(x in sizes: x + total)
      path = "{n}-{most}-{first(x in sizes where x + total == most)}"
      data = bytes(0, 0)
    })",
              Bytes{1, 2, 3});
  EXPECT_EQ(d.paths(), "0-15-3 1-15-3 2-15-3") << d.error();
}

TEST(RecordVariables, ThatFailCostWhatUsesThem) {
  Described d(R"(
    record Item { by u8
                  size u8
                  let part = size / by }
    items = Item[2] at 0
    entry for i number n in items { path = "{n}"
                                    data = bytes(4, i.size) }
    entry for i number n in items { path = "part{n}"
                                    data = bytes(4, i.part) })",
              ByteWriter().u8(0).u8(1).u8(1).u8(2).text("ab").take());
  EXPECT_EQ(d.listing(), "0=a 1=ab part0=.. part1=ab");
}

TEST(RecordVariables, ThatFailAreNoRecordsEither) {
  Described d(R"(
    record Item { size u8 }
    record Head { by u8
                  let far = first(i in Item[1] at 100 / by where i.size > 0)
                  let deep = far.size }
    heads = Head[2] at 0
    entry for h number n in heads { path = "{n}"
                                    size = h.deep
                                    data = bytes(0, 1) })",
              to_bytes(std::string("\0\x32x", 3)));
  EXPECT_EQ(d.listing(), "0=.. 1=..") << d.error();
  EXPECT_NE(d.content_error("0").find("is divided by zero"), std::string::npos) << d.content("0");
}

TEST(RecordVariables, ThatFailCountAgainstWhatIsKept) {
  Described d(R"(
    record Item { size u8
                  body bytes[size]
                  let part = 1 / size }
    items = Item[] to end at 0
    entry { path = "a"
            data = bytes(0, count(items)) })",
              Bytes(600'000));
  EXPECT_NE(d.error().find("the texts and bytes that this description makes take more than 128 MiB"),
            std::string::npos)
      << d.error();
}

TEST(Entries, WhoseKindCannotBeToldHaveNoData) {
  Described d(R"(
    sizes = u8[2] at 0
    entry for s number n in sizes { path = "{n}"
                                    folder = 1 / s == 9
                                    data = bytes(0, 1) })",
              Bytes{0, 1});
  EXPECT_EQ(d.listing(), std::string("0=.. 1=") + std::string(1, '\0'));
}

TEST(OptionalRoles, CostOnlyThemselves) {
  Described d(R"(
    record Item { stamp u8
                  mode u8 when stamp == 9 }
    item = Item at 0
    entry { path = "a"
            time = unix(1 / item.stamp)
            mode = item.mode
            comment = if item.stamp == 9 then "c" else nothing
            data = bytes(1, 2)
            size = 2 })",
              ByteWriter().u8(0).text("AA").take());
  EXPECT_EQ(d.content("a"), "AA") << d.error();
  EXPECT_EQ(d.entries()[0].size, 2u);
  EXPECT_FALSE(d.entries()[0].modified.known());
  EXPECT_NE(d.first_finding().find("a: its time: "), std::string::npos) << d.first_finding();
}

TEST(Paths, ThatCannotBeHadAreNumberedAndTold) {
  Described d(R"(
    entry for n in range(0, 2) { path = ""
                                 data = bytes(0, 1) })",
              to_bytes("x"));
  EXPECT_EQ(d.paths(), "entry-1 entry-2");
  EXPECT_NE(d.first_finding().find("2 entries are without a path"), std::string::npos) << d.first_finding();
}

TEST(Records, NestAsDeepAsTheReferenceSays) {
  const char* text = R"(
    record Box { kind u8
                 inner Box[kind] }
    box = Box at 0
    entry { path = "x"
            data = bytes(0, 1) })";
  Bytes deep(290, 1);
  deep.back() = 0;
  EXPECT_EQ(Described(text, deep).paths(), "x");
  Bytes deeper(400, 1);
  EXPECT_NE(Described(text, deeper).error().find("more than 300 levels deep"), std::string::npos);
}

TEST(Expectations, AreToldAndCostNothing) {
  const char* text = R"(
    record Head { size u8
                  version u8
                  expect version == 1 : "a version from elsewhere" }
    head = Head at 0
    expect head.size == file_size : "the file is not as long as its header says"
    expect head.size > 0
    entry { path = "a"
            data = bytes(2, 1) })";
  Described wrong(text, to_bytes("\x09\x02x"));
  EXPECT_EQ(wrong.listing(), "a=x") << wrong.error();
  std::string told = wrong.findings();
  EXPECT_NE(told.find("test.layout line 5: a version from elsewhere"), std::string::npos) << told;
  EXPECT_NE(told.find("the file is not as long as its header says"), std::string::npos) << told;
  EXPECT_EQ(Described(text, to_bytes("\x03\x01x")).findings(), "");
}

TEST(CutLists, KeepTheirWholeElements) {
  const char* text = R"(
    record Item { size u8
                  body bytes[size] }
    items = Item[] to end at 0
    entry for i number n in items { path = "{n}"
                                    data = i.body })";
  Described d(text, to_bytes("\x02"
                             "ab"
                             "\x03"
                             "cde"
                             "\x05"
                             "fg"));
  EXPECT_EQ(d.listing(), "0=ab 1=cde") << d.error();
  EXPECT_NE(d.findings().find("the list is cut short: its element 2 begins at offset 7 and does not end"),
            std::string::npos)
      << d.findings();
  EXPECT_NE(Described(text, to_bytes("\x05"
                                     "fg"))
                .error(),
            "")
      << "nothing of it is whole";
}

TEST(Fallbacks, CatchWhatLiesOutsideTheData) {
  Described d(R"(
    record Item { name text[4] }
    fact far = (Item at 100).name else "none"
    fact near = (Item at 0).name else "none"
    entry { path = "a"
            data = bytes(0, 1) })",
              to_bytes("reef"));
  EXPECT_EQ(d.facts(), "far=none near=reef") << d.error();
}

TEST(Conditions, OfADamagedElementDoNotHold) {
  Described d(R"(
    record Item { by u8 }
    items = Item[2] at 0
    sound = all(i in items where 6 / i.by > 0)
    fact sound = if sound then "yes" else "no"
    entry { path = "a"
            data = bytes(0, 1) })",
              Bytes{3, 0});
  EXPECT_EQ(d.facts(), "sound=no") << d.error();
}

// ---- what cannot be worked out while a container is read

struct Fault {
  const char* body;
  const char* says;
};
class Faults : public testing::TestWithParam<Fault> {};

TEST_P(Faults, AreToldWithWhatWasWanted) {
  std::string body = GetParam().body;
  Described tried(body + "\nentry { path = \"{x}\"\ndata = rest(0) }\n", to_bytes("tide"));
  EXPECT_TRUE(has(tried.error(), GetParam().says)) << body << "\n" << tried.error();
}

INSTANTIATE_TEST_SUITE_P(
    All, Faults,
    testing::Values(
        Fault{"x = first(i in range(0, 0)) + 1", "a number is wanted here, and there is none"},
        Fault{"x = lower(first(t in [\"a\"] where t == \"b\"))", "a text is wanted here, and there is none"},
        Fault{"b = first(t in [bytes(0, 1)] where false)\nx = length(b)",
              "bytes are wanted here, and there are none"},
        Fault{"record H { b bytes[2] when false }\nh = H at 0\nx = length(h.b | zlib)",
              "bytes are wanted here, and there are none"},
        Fault{"x = length(bytes(0 - 5, 1))", "of -5; it cannot be negative"},
        Fault{"record H { a u8 }\nrecord G { h H when false }\ng = G at 0\nx = g.h.a + 1",
              "\"a\" is wanted of a record that is not there"},
        Fault{"record H { a u8 when false }\nh = H at 0\nx = h.a + 1",
              "the field \"a\" is not there in this record"},
        Fault{"x = length([1, 2][0..5])", "elements 0 to 5 are wanted of a list of 2"},
        Fault{"x = length(rest(100))", "the rest from offset 100 is wanted of 4 bytes"},
        Fault{"x = sum(i in [0x7fffffffffffffff, 1]: i)", "this sum leaves the range of 64-bit numbers"},
        Fault{"record H { a u8 }\nl = H[2] at 0\nx = offset_of(first(h in l where false))",
              "the place of what is not there"},
        Fault{"x = offset_of(range(0, 3))", "the place of a list that was not read and holds no records"},
        Fault{"x = count(chain(n from 0 while true then n))",
              "this chain comes back to where it was after 1 links"},
        Fault{"x = length(cut(rest(0), [100])[0])",
              "piece 0 of 100 bytes does not fit into the 4 that are left"},
        Fault{"record T { a u8 }\nl = T[100] at 0\nx = l[50].a",
              "a table of 100 elements of 1 bytes at offset 0 does not fit into the 4 bytes that are left"},
        Fault{"x = align(0x7fffffffffffffff, 16)", "align leaves the range of 64-bit numbers"},
        Fault{"x = number(\"12\", 7)", "numbers of base 7"},
        Fault{"x = number(\"wave\")", "\"wave\" is no number"},
        Fault{"record E { when false { a u8 } }\nl = E[] to end at 0\nx = count(l)",
              "the elements of this list take no bytes at offset 0"},
        Fault{"x = length(rest(0) | choose 5 { 1: stored })", "no choice is given for 5"},
        Fault{"record H { a u8\nrequire a == 0 }\nh = H at 0\nx = h.a",
              "a condition that the format requires does not hold"},
        Fault{"record H { t text until \"zz\" }\nh = H at 0\nx = h.t",
              "expected \"zz\" behind offset 0, found none"}));

}  // namespace
}  // namespace operculum::test

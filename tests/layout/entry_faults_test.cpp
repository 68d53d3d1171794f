// What goes wrong in one place of a described container costs only that, is told once, and is never passed
// over.
#include <gtest/gtest.h>

#include "base/checksum.h"
#include "container/format.h"
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
  EXPECT_NE(d.first_finding().find("the paths of 2 entries are empty"), std::string::npos)
      << d.first_finding();
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

}  // namespace
}  // namespace operculum::test

// What goes through lists, bytes, bits and trees: fold, scan, bit_field, parent, sibling, other paths.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/sum_kinds.h"
#include "support/bit_writer.h"
#include "support/has.h"
#include "support/language_case.h"

namespace operculum {
namespace {

using namespace test;

TEST(Fold, StatesAHashThatIsNoneOfTheKnownOnes) {
  Described d(R"(
    define shore(name: text): number = fold(h from 7, b number i in raw(lower(name)): (h * 31 + b * (i + 1)) bitand 0xffffff)
    record Item { hash u32; size u8 }
    items = Item[2] at 0
    entry for i in items {
      path = first(n in ["crab.png", "TERN.png"] where shore(n) == i.hash) else "unknown"
      data = bytes(0, i.size)
    })",
              [] {
                auto shore = [](std::string_view name) {
                  std::uint64_t h = 7;
                  for (std::size_t i = 0; i < name.size(); ++i)
                    h = (h * 31 + static_cast<Byte>(name[i]) * (i + 1)) & 0xffffff;
                  return h;
                };
                return ByteWriter().u32(shore("tern.png")).u8(1).u32(12).u8(2).take();
              }());
  EXPECT_EQ(d.paths(), "TERN.png unknown");
}

TEST(Fold, AgreesWithTheHashThatTheLanguageKnows) {
  Described d(R"(
    name = "tidepool/crab.png"
    own = fold(h from 5381, b in raw(name): (h * 33 + b) bitand 0xffffffff)
    require own == hash("times33", name)
    entry { path = "{own:x}"; data = bytes(0, 0) })",
              Bytes(1));
  EXPECT_EQ(d.error(), "");
  const NameHash* known = find_name_hash("times33");
  ASSERT_NE(known, nullptr);
  EXPECT_EQ(d.paths(), fmt::format("{:x}", known->of("tidepool/crab.png")));
}

TEST(Scan, AddsDifferencesOfBase128) {
  Described d(R"(
    deltas = leb128[3] at 0
    places = scan(at from 5, d in deltas: at + d)
    entry for p number i in places { path = "{i}"; data = bytes(p, 2) })",
              [] {
                Bytes bytes = {1, 2, 0x83, 1};  // 1, 2, 131
                bytes.resize(160, '.');
                bytes[6] = 'a', bytes[8] = 'b', bytes[139] = 'c';
                return bytes;
              }());
  EXPECT_EQ(d.listing(), "0=a. 1=b. 2=c.");
}

TEST(Scan, UnpacksNamesThatShareTheFrontOfTheOneBefore) {
  Described e(R"(
    record Name { shared u8; more text until 0 }
    names = Name[4] at 0
    define joined(a: text, b: text): text = "{a}{b}"
    paths = scan(before from "", n in names: joined(before[0..n.shared], n.more))
    entry for p in paths { path = p; data = bytes(0, 1) })",
              ByteWriter()
                  .u8(0)
                  .text("maps/bay.map")
                  .u8(0)
                  .u8(5)
                  .text("cove.map")
                  .u8(0)
                  .u8(5)
                  .text("coast.map")
                  .u8(0)
                  .u8(0)
                  .text("x")
                  .u8(0)
                  .take());
  EXPECT_EQ(e.paths(), "maps/bay.map maps/cove.map maps/coast.map x");
}

TEST(Scan, OfAnEmptyListIsEmptyAndItsFoldTheStart) {
  Described d(R"(
    none = u8[0] at 0
    entry { path = "{count(scan(s from 3, x in none: s + x))}-{fold(s from 3, x in none: s + x)}"; data = bytes(0, 0) })",
              Bytes(4));
  EXPECT_EQ(d.paths(), "0-3");
}

TEST(Scan, MustCarryOneKind) {
  EXPECT_TRUE(
      has(Described("a = scan(s from 0, x in u8[2] at 0: \"x\")\n", Bytes(4)).error(), "one way gives"));
  EXPECT_TRUE(has(Described("a = fold(s from 0, x in 7: s)\n", Bytes(4)).error(),
                  "fold goes through a list or bytes; this is a number"));
  EXPECT_TRUE(has(Described("a = fold(s from 0, x in u8[2] at 0)\n", Bytes(4)).error(),
                  "expected \":\" and what fold takes of each"));
}

TEST(Scan, IsBoundedLikeEveryList) {
  Described d("a = scan(s from 0, x in rest(0): s + x)\n", Bytes(100),
              [](OpenContext& context) { context.limits.max_entries = 50; });
  EXPECT_TRUE(has(d.error(), "a list of more than 50 elements")) << d.error();
}

TEST(BytesInLoops, AreNumbersOneByOne) {
  Described d(R"(
    entry { path = "{count(b in bytes(0, 5) where b == 7)}-{sum(b in bytes(0, 3): b)}"; data = bytes(0, 0) })",
              Bytes{7, 1, 7, 7, 2});
  EXPECT_EQ(d.paths(), "3-15");
}

TEST(BitField, ReachesAcrossRecordsFromEitherEnd) {
  // sizes of 13 bits and flags of 3, one behind the other without regard to bytes
  for (bool high : {false, true}) {
    BitWriter bits(high);
    for (auto [size, flag] : {std::pair{5u, 1u}, {8000u, 7u}, {3u, 4u}}) bits.put(size, 13).put(flag, 4);
    Bytes bytes = bits.take();
    bytes.resize(9000, 'x');
    Described d(std::string("define at(i, w): number = bit_field(bytes(0, 7), i, w, \"") +
                    (high ? "high" : "low") + R"(")
    entry for i in range(0, 3) { path = "{at(i * 17, 13)}-{at(i * 17 + 13, 4)}"; data = bytes(0, 0) })",
                bytes);
    EXPECT_EQ(d.paths(), "5-1 8000-7 3-4") << high;
  }
}

TEST(BitField, TellsWhatLiesOutside) {
  auto error = [](const std::string& call) { return Described("a = " + call + "\n", Bytes(4)).error(); };
  EXPECT_TRUE(has(error("bit_field(bytes(0, 4), 28, 5)"), "bits 28 to 32 are wanted of 4 bytes"));
  EXPECT_TRUE(has(error("bit_field(bytes(0, 4), 0, 57)"), "a field of 57 bits; 1 to 56 are possible"));
  EXPECT_TRUE(has(error("bit_field(bytes(0, 4), 0, 5, \"middle\")"), "\"low\" or \"high\", not \"middle\""));
  EXPECT_EQ(error("bit_field(bytes(0, 4), 27, 5)"), "");
}

constexpr const char* kTree = R"(
    record Node { name text[1]; mark u8; children u8; nodes Node[children] }
    roots = Node[2] at 0
)";
Bytes tree_bytes() {
  return to_bytes(
      std::string("a\1\2"
                  "b\2\0"
                  "c\3\1"
                  "d\4\0"
                  "e\5\0",
                  15));
}

TEST(Trees, TellOfTheParentAndOfThePlaceAmongSiblings) {
  Described e(kTree + std::string(R"(
    entry for n in tree(n in roots by n.nodes) {
      let above = parent(parent(n.name)) else "none"
      path = "{n.name}{sibling(n)}-{parent(n.mark) else 0}-{above}"
      data = bytes(0, 0)
    })"),
              tree_bytes());
  EXPECT_EQ(e.paths(), "a0-0-none b0-1-none c1-1-none d0-3-a e1-0-none");
}

TEST(Trees, NumberSiblingsAlongTheTrail) {
  Described d(kTree + std::string(R"(
    entry for n in tree(n in roots by n.nodes) { path = trail("{sibling(n)}{n.name}", "/"); data = bytes(0, 0) })"),
              tree_bytes());
  EXPECT_EQ(d.paths(), "0a 0a/0b 0a/1c 0a/1c/0d 1e");
}

TEST(Trees, SiblingOfAPlainListIsTheNumber) {
  Described d("entry for x in u8[3] at 0 { path = \"{sibling(x)}{parent(x) else 9}\"; data = bytes(0, 0) }",
              Bytes(3));
  EXPECT_EQ(d.paths(), "09 19 29");
  EXPECT_TRUE(has(Described("a = sibling(3)\n", Bytes(3)).error(), "needs the variable of a loop"));
}

TEST(OtherPaths, AreLinksToTheirEntry) {
  Described e(R"(
    record Alias { name text until 0 }
    record Item { at u8; name text until 0; others u8; more Alias[others] }
    items = Item[2] at 0
    entry for i in items { path = i.name; also = each(m in i.more: m.name); data = bytes(i.at, 1) })",
              to_bytes(std::string("\0crab\0\2krabbe\0kreps\0"
                                   "\1tern\0\0",
                                   27)));
  ASSERT_EQ(e.paths(), "crab krabbe kreps tern");
  EXPECT_EQ(e.entries()[0].kind, EntryKind::file);
  EXPECT_EQ(e.entries()[1].kind, EntryKind::hard_link);
  EXPECT_EQ(e.entries()[2].link_target(), "crab");
  Described one("entry { path = \"a\"; also = \"b\"; data = bytes(0, 1) }", to_bytes("x"));
  EXPECT_EQ(one.listing(), "a=x b=x");
  EXPECT_TRUE(has(Described("entry { path = \"a\"; also = 5; data = bytes(0, 1) }", Bytes(1)).error(),
                  "expected a text or a list of texts, found a number"));
}

TEST(PlacesOfLists, AreKnownWhateverTheirElementsAre) {
  Described d(R"(
    words = text until 0 [2] at 1
    numbers = leb128[2] at end_of(words)
    none = leb128[0] at end_of(numbers)
    entry { path = "{offset_of(words)}-{end_of(words)}-{end_of(numbers)}-{offset_of(none)}-{end_of(none)}"; data = bytes(0, 0) })",
              Bytes{0, 'a', 'b', 0, 'c', 0, 5, 0x80, 1, 9});
  EXPECT_EQ(d.paths(), "1-6-9-9-9");
  EXPECT_TRUE(has(Described("a = end_of([1, 2])\n", Bytes(4)).error(),
                  "a list that was not read and holds no records"));
}

TEST(Reads, OfEveryTypeStandInExpressions) {
  Described d(R"(
    a = bytes until 0 at 1
    b = text until "," at 4
    c = bytes sized u8 at 9
    e = bytes[2] at 1
    f = text sized u8 at 9
    g = text word at 12
    h = decimal word at 16
    entry { path = "{text(a)}-{b}-{text(c)}-{text(e)}-{f}-{g}-{h}"; data = bytes to end at 21 })",
              to_bytes(std::string("_ab\0"
                                   "tide,"
                                   "\2xy"
                                   " fog "
                                   "042 "
                                   "rest",
                                   25)));
  EXPECT_EQ(d.listing(), "ab-tide-xy-ab-xy-fog-42=rest") << d.error();
}

TEST(Lines, EndAtSemicolons) {
  Described d(
      "record Item { at u8; size u8 }; items = Item[2] at 0; entry for i in items { path = \"{i.at}\"; data "
      "= bytes(i.at, i.size) }",
      to_bytes("\4\1\5\2abc"));
  EXPECT_EQ(d.listing(), "4=a 5=bc");
}

TEST(TextParts, AreCountedInBytes) {
  Described d("entry { path = text(bytes(0, 6))[1..3]; data = bytes(0, 0) }", to_bytes("abcdef"));
  EXPECT_EQ(d.paths(), "bc");
  Described beyond("a = length(text(bytes(0, 6))[4..9])\n", to_bytes("abcdef"));
  EXPECT_TRUE(has(beyond.error(), "bytes 4 to 9 are wanted of a text of 6")) << beyond.error();
}

}  // namespace
}  // namespace operculum

// Elements looked up by a key: the same answers as going through the list, without its cost.
#include <gtest/gtest.h>

#include "support/language_case.h"

namespace operculum {
namespace {

using test::ByteWriter;
using test::Described;

/// Rows of an id and a value, in a shuffled order, after their number.
Bytes rows(std::uint32_t count) {
  ByteWriter out;
  out.u32(count);
  for (std::uint32_t i = 0; i < count; ++i) out.u32(i * 7919 % count).u32(i);
  return out.take();
}

TEST(LookUp, GoesNotThroughTheListForEachEntry) {
  // Forty thousand look-ups through forty thousand rows would be 800 million steps; 20 million are allowed.
  constexpr std::uint32_t kRows = 40'000;
  Described d(R"(
    record Row {
      id u32
      value u32
    }
    count = u32 at 0
    items = Row[count] at 4
    entry for i in range(0, count) {
      path = "{i}"
      data = bytes(4 + 8 * first(r in items where r.id == i).value, 4)
    })",
              rows(kRows));
  ASSERT_EQ(d.error(), "");
  ASSERT_EQ(d.entries().size(), kRows);
  for (std::uint32_t i : {0u, 1u, 17u, kRows - 1}) {
    ByteWriter id;
    id.u32(i);
    Bytes wanted = id.take();
    EXPECT_EQ(d.content(std::to_string(i)), as_text(wanted));
  }
}

TEST(LookUp, WithinEachOtherAreCompiledOnceEach) {
  // Compiled again for each level around it, thirty levels would take longer than anybody waits.
  std::string wanted = "7";
  for (int level = 0; level < 30; ++level) {
    std::string row = "r" + std::to_string(level);
    wanted = "first(" + row + " in items where " + row + ".id == " + wanted + ").id";
  }
  Described d(R"(
    record Row {
      id u32
    }
    items = Row[1] at 0
    found = )" + wanted +
                  R"(
    entry {
      path = "{found}"
      data = bytes(0, 0)
    })",
              ByteWriter().u32(7).take());
  EXPECT_EQ(d.paths(), "7") << d.error();
}

struct Question {
  std::string expression, answers;  // for the entries 0 to 3
};

/// Names "a", "bb", "a", "ccc" with kinds 1, 2, 3, 2.
Bytes named() {
  return ByteWriter().text("a  ").u8(1).text("bb ").u8(2).text("a  ").u8(3).text("ccc").u8(2).take();
}

class Answers : public testing::TestWithParam<Question> {};

TEST_P(Answers, AreThoseOfGoingThrough) {
  Described d(R"(
    record Row {
      name text[3] padded " "
      kind u8
    }
    items = Row[4] at 0
    wanted = ["a", "bb", "ccc", "none"]
    entry for i in range(0, 4) {
      let name = wanted[i]
      path = "{i}-{)" +
                  GetParam().expression + R"(}"
      data = bytes(0, 0)
    })",
              named());
  EXPECT_EQ(d.paths(), GetParam().answers) << d.error();
}

INSTANTIATE_TEST_SUITE_P(
    Look, Answers,
    testing::Values(
        Question{"first(r in items where r.name == name).kind else 9", "0-1 1-2 2-2 3-9"},
        Question{"first(r in items where name == r.name).kind else 9", "0-1 1-2 2-2 3-9"},
        Question{"last(r in items where r.name == name).kind else 9", "0-3 1-2 2-2 3-9"},
        Question{"count(r in items where r.name == name)", "0-2 1-1 2-1 3-0"},
        Question{"sum(r number n in items where r.name == name: n)", "0-2 1-1 2-3 3-0"},
        Question{"last(r in items where r.kind == 2 and r.name == name).kind else 9", "0-9 1-2 2-2 3-9"},
        Question{"count(r in items where r.kind == 2 and i > 1)", "0-0 1-0 2-2 3-2"},
        Question{"first(r in items where r.kind + 1 == i).kind else 9", "0-9 1-9 2-1 3-2"},
        Question{"if all(r in items where r.kind == i) then 1 else 0", "0-0 1-0 2-0 3-0"},
        Question{"if any(r in items where lower(r.name) == name) then 1 else 0", "0-1 1-1 2-1 3-0"},
        Question{"first(r in items where next_of(r.kind, 0) == i).kind else 9", "0-2 1-9 2-1 3-2"},
        Question{"count(r in items where r.kind == r.kind + i)", "0-4 1-0 2-0 3-0"},
        Question{"first(k in each(r in items where r.kind >= i: r.kind) where k == i) else 9",
                 "0-9 1-1 2-2 3-3"}));

TEST(LookUp, ADamagedElementIsToldWhereItWouldBeMet) {
  // The third row's name lies outside the file: what stands before it is found, what stands behind is not.
  Described e(R"(
    record Row { at u8 }
    items = Row[4] at 0
    entry for i in range(0, 4) {
      path = "{i}"
      data = bytes(first(r in items where text(bytes(r.at, 1)) == text(bytes(4 + i, 1))).at, 1)
    })",
              ByteWriter().u8(4).u8(5).u8(200).u8(7).text("abcd").take());
  EXPECT_EQ(e.listing(), "0=a 1=b 2=.. 3=..");
}

}  // namespace
}  // namespace operculum

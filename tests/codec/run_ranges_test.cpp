#include "codec/run_ranges.h"

#include <gtest/gtest.h>

#include "base/error.h"
#include "support/has.h"
#include "support/sentence.h"

namespace operculum {
namespace {

using namespace test;

Bytes decode(Bytes packed, std::string_view rules) {
  return read_all(
      *open_run_ranges(make_source_stream(make_memory_source(std::move(packed))), parse_run_rules(rules)),
      1 << 20);
}

TEST(RunRanges, EachCodeDoesWhatItsRangeAnnounces) {
  Bytes packed = {0x01, 'a', 'b', 0x82, 'c', 0xf1, 0xfe, 3, 0x40};
  EXPECT_EQ(
      as_text(decode(packed, "00-3f copy 1, 40-7f self, 80-ef repeat 3, f0-fd zeros 2, fe zeros wide 1")),
      (std::string("abccccc") + std::string(3 + 4, '\0') + "\x40"));
}

TEST(RunRanges, WideCountsGrowBy256ForEachCode) {
  Bytes made = decode({0x11, 5, 'x'}, "10-1f repeat wide 2");
  EXPECT_EQ(made, Bytes(256 + 5 + 2, 'x'));
}

TEST(RunRanges, AnEndEndsTheDataWhateverFollows) {
  EXPECT_EQ(as_text(decode({'a', 0xff, 'b', 'c'}, "00-fe self, ff end")), "a");
}

TEST(RunRanges, PackedDataComesBack) {
  Bytes plain;
  std::uint32_t state = 9;
  for (int i = 0; i < 4000; ++i) {
    state = state * 1664525 + 1013904223;
    plain.insert(plain.end(), (state >> 28) == 0 ? 1 + (state >> 12 & 0x3ff) : 1 + (state >> 30),
                 static_cast<Byte>(state >> 20 & 0x87));
  }
  for (std::string_view rules :
       {"00-7f copy 1, 80-fe repeat 3, ff zeros wide 2", "00-7f copy 1, 80-ff repeat 1",
        "00-1f copy wide 1, 20-3f repeat wide 4, 40-7f zeros 1", "00-bf self, c0-fe repeat 1, ff end",
        "00-ef copy 1, f0-ff repeat wide 1"}) {
    Bytes packed = pack_run_ranges(plain, parse_run_rules(rules));
    EXPECT_EQ(decode(packed, rules), plain) << rules;
    EXPECT_LT(packed.size(), plain.size()) << rules;
  }
}

TEST(RunRanges, TellWhatIsWrong) {
  EXPECT_TRUE(has(sentence([] { parse_run_rules("00-7f copies 1"); }),
                  "the rule \"00-7f copies 1\" announces neither"));
  EXPECT_TRUE(has(sentence([] { parse_run_rules("7f-00 copy 1"); }), "has no codes from 00 to ff"));
  EXPECT_TRUE(has(sentence([] { parse_run_rules("00 copy 1 2"); }), "ends with no count"));
  EXPECT_TRUE(has(sentence([] { parse_run_rules("00 copy -1"); }), "ends with no count"));
  EXPECT_EQ(sentence([] { decode({0x80}, "00-7f self"); }),
            "run-length data: code 80 has no rule; the data is damaged");
  EXPECT_EQ(sentence([] {
              decode({5, 'a'}, "00-7f copy 1");
            }),
            "run-length data: the data ends within a run; it is cut short");
  EXPECT_EQ(sentence([] {
              pack_run_ranges(Bytes{0x90, 1}, parse_run_rules("00-7f self, 80-8f zeros 1"));
            }),
            "Unsupported: packing byte 90 with these run-length rules");
}

}  // namespace
}  // namespace operculum

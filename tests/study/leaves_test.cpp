// Pictures, sounds, fonts and models within other bytes: where they begin, and where they say that they end.
#include "study/leaves.h"

#include <gtest/gtest.h>

#include "base/bytes.h"
#include "io/source.h"
#include "support/byte_writer.h"
#include "support/sample_tree.h"

namespace operculum::study {
namespace {

using namespace test;

Bytes png() {
  return ByteWriter()
      .text("\x89PNG\r\n\x1a\n")
      .u32be(13)
      .text("IHDR")
      .zeros(13 + 4)
      .u32be(5)
      .text("IDATabcde")
      .zeros(4)
      .u32be(0)
      .text("IEND")
      .zeros(4)
      .take();
}

/// One segment, coded data with a stuffed byte and a restart in it, the end.
Bytes jpeg() {
  ByteWriter out;
  out.u8(0xff).u8(0xd8).u8(0xff).u8(0xe0).u16be(4).u16(0);
  out.u8(0xff).u8(0xda).u16be(3).u8(1).text("coded").u8(0xff).u8(0).u8(0xff).u8(0xd3).text("more");
  return out.u8(0xff).u8(0xd9).take();
}

Bytes gif() {
  ByteWriter out;
  out.text("GIF89a").u16(1).u16(1).u8(0x80).u8(0).u8(0).zeros(6);
  out.u8(0x21).u8(0xfe).u8(3).text("lid").u8(0);
  out.u8(0x2c).zeros(8).u8(0).u8(2).u8(2).u8(1).u8(1).u8(0);
  return out.u8(0x3b).take();
}

Bytes riff() {
  return ByteWriter().text("RIFF").u32(24).text("WAVEfmt ").zeros(16).take();
}

Bytes iff() {
  return ByteWriter().text("FORM").u32be(18).text("AIFF").zeros(14).take();
}

Bytes bitmap() {
  return ByteWriter().text("BM").u32(62).u32(0).u32(54).u32(40).zeros(44).take();
}

Bytes ogg() {
  ByteWriter out;
  for (unsigned flags : {2u, 4u}) out.text("OggS").u8(0).u8(flags).zeros(20).u8(1).u8(3).text("abc");
  return out.take();
}

Bytes midi() {
  return ByteWriter().text("MThd").u32be(6).u16be(0).u16be(1).u16be(96).text("MTrk").u32be(4).zeros(4).take();
}

Bytes font() {
  return ByteWriter()
      .u32be(0x00010000)
      .u16be(1)
      .zeros(6)
      .text("glyf")
      .u32be(0)
      .u32be(28)
      .u32be(8)
      .zeros(8)
      .take();
}

Bytes web_font() {
  return ByteWriter().text("wOFF").text("OTTO").u32be(60).zeros(48).take();
}

Bytes model() {
  return ByteWriter().text("glTF").u32(2).u32(32).zeros(20).take();
}

struct Case {
  std::string_view what;
  Bytes (*make)();
};

struct EachLeaf : testing::TestWithParam<Case> {};

TEST_P(EachLeaf, IsFoundFromItsBeginningToItsEnd) {
  Bytes leaf = GetParam().make();
  Bytes bytes = ByteWriter().zeros(100).bytes(leaf).zeros(50).bytes(leaf).zeros(3).take();
  auto found = find_leaves(*make_memory_source(bytes), 10);
  ASSERT_EQ(found.size(), 2u);
  EXPECT_EQ(found[0].begin, 100u);
  EXPECT_EQ(found[0].end, 100 + leaf.size());
  EXPECT_EQ(found[1].begin, 150 + leaf.size());
  EXPECT_EQ(found[1].end, 150 + 2 * leaf.size());
  EXPECT_EQ(found[0].what, GetParam().what);
}

TEST_P(EachLeaf, IsNoneWhenItIsCut) {
  Bytes leaf = GetParam().make();
  for (std::size_t size = 0; size < leaf.size(); ++size) {
    Bytes cut(leaf.begin(), leaf.begin() + static_cast<std::ptrdiff_t>(size));
    EXPECT_TRUE(find_leaves(*make_memory_source(cut), 10).empty()) << size;
  }
}

INSTANTIATE_TEST_SUITE_P(Leaves, EachLeaf,
                         testing::Values(Case{"PNG picture", png}, Case{"JPEG picture", jpeg},
                                         Case{"GIF picture", gif}, Case{"RIFF file", riff},
                                         Case{"IFF file", iff}, Case{"bitmap picture", bitmap},
                                         Case{"Ogg stream", ogg}, Case{"MIDI file", midi},
                                         Case{"TrueType font", font}, Case{"WOFF font", web_font},
                                         Case{"glTF model", model}));

TEST(Leaves, ThoseWithoutALengthEndWhereTheyBegin) {
  Bytes bytes = ByteWriter().text("DDS ").u32(124).zeros(120).text("fLaC").u32be(0x80000022).zeros(40).take();
  auto found = find_leaves(*make_memory_source(bytes), 10);
  ASSERT_EQ(found.size(), 2u);
  EXPECT_EQ(found[0].what, "DDS picture");
  EXPECT_EQ(found[0].end, found[0].begin);
  EXPECT_EQ(found[1].what, "FLAC sound");
  EXPECT_EQ(found[1].begin, 128u);
}

TEST(Leaves, LieAcrossTheWindowsThatAreLookedAt) {
  Bytes bytes((1 << 20) - 5);
  Bytes leaf = png();
  bytes.insert(bytes.end(), leaf.begin(), leaf.end());
  auto found = find_leaves(*make_memory_source(bytes), 10);
  ASSERT_EQ(found.size(), 1u);
  EXPECT_EQ(found[0].end, bytes.size());
}

TEST(Leaves, OfNoiseAndOfMarksAloneThereAreNone) {
  EXPECT_TRUE(find_leaves(*make_memory_source(noise(1 << 20, 7)), 10).empty());
  ByteWriter marks;  // each leads on through all that follow
  for (int i = 0; i < 20'000; ++i) marks.text("\x89PNG\r\n\x1a\n").u32be(0).text("IDAT").zeros(4);
  EXPECT_TRUE(find_leaves(*make_memory_source(marks.take()), 10).empty());
}

}  // namespace
}  // namespace operculum::study

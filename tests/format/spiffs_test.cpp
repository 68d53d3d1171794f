// SPIFFS. No program of its makers is in Debian: images are put together here, after the specification.
#include <gtest/gtest.h>

#include "support/open.h"
#include "support/sample_tree.h"
#include "support/sentence.h"
#include "support/spiffs_writer.h"

namespace operculum {
namespace {

using namespace test;

struct Shape {
  std::size_t page, block;
  bool magic, counted;
};
struct Spiffs : testing::TestWithParam<Shape> {};

TEST_P(Spiffs, FilesAreReadWhateverThePagesAndBlocks) {
  auto [page, block, magic, counted] = GetParam();
  SpiffsWriter writer(page, block, 8, magic, counted);
  Bytes table = noise(9000);
  writer.file(1, "/config/station.txt", to_bytes("station=7\n"));
  writer.file(2, "/tide.bin", table);
  writer.file(3, "/empty", {});
  Held held = open_bytes(writer.take());
  ASSERT_EQ(held.format(), "spiffs");
  EXPECT_EQ(paths_of(*held), "config/station.txt tide.bin empty");
  EXPECT_EQ(text_at(*held, "config/station.txt"), "station=7\n");
  EXPECT_EQ(text_at(*held, "tide.bin"), as_text(table));
  EXPECT_EQ(text_at(*held, "empty"), "");
  EXPECT_TRUE(held->findings().empty());
}
INSTANTIATE_TEST_SUITE_P(Shapes, Spiffs,
                         testing::Values(Shape{256, 4096, true, true}, Shape{256, 4096, true, false},
                                         Shape{256, 8192, true, true}, Shape{256, 65536, true, true},
                                         Shape{512, 16384, true, true}, Shape{128, 4096, true, false},
                                         Shape{256, 4096, false, false}));

TEST(SpiffsImage, WhatWasTakenAwayOrNotFinishedIsLeftOut) {
  SpiffsWriter writer(256, 4096, 4, true, true);
  writer.file(1, "/kept.txt", to_bytes("kept\n"));
  writer.put(0x8002, 0, kDeletedIndex, ByteWriter().zeros(3).u32(4).u8(1).text("/gone.txt").take());
  writer.put(2, 0, kDeletedData, to_bytes("gone"));
  writer.put(3, 0, kDataFlags, to_bytes("nobody's"));
  writer.file(4, "/open.log", to_bytes("half"), 0xFFFFFFFF);
  Held held = open_bytes(writer.take());
  ASSERT_EQ(held.format(), "spiffs");
  EXPECT_EQ(paths_of(*held), "kept.txt open.log");
  EXPECT_TRUE(text_at(*held, "open.log").starts_with("half"));
  EXPECT_TRUE(has_finding(*held, "pages of 1 file that have no name any more"));
}

TEST(SpiffsImage, AMissingPageCostsOnlyItsFile) {
  SpiffsWriter writer(256, 4096, 4, true, true);
  writer.file(1, "/whole.txt", to_bytes("whole\n"));
  writer.file(2, "/holed.bin", noise(600), 900);
  Bytes image = writer.take();
  Held held = open_bytes(image);
  EXPECT_EQ(text_at(*held, "whole.txt"), "whole\n");
  EXPECT_EQ(sentence([&] { text_at(*held, "holed.bin"); }),
            "SPIFFS: 1 of the 4 pages of this file are not there");
  image.resize(4096 * 3);
  EXPECT_TRUE(has_finding(*open_bytes(image), "the image is cut short"));
}

TEST(SpiffsImage, EveryPrefixAndFlipEndsWell) {
  SpiffsWriter writer(128, 4096, 2, true, true);
  writer.file(1, "/a.txt", to_bytes("ebb\n"));
  Bytes image = writer.take();
  read_every_prefix(image, "image.spiffs");
  SpiffsWriter larger(256, 4096, 3, true, false);
  larger.file(1, "/tide.bin", noise(4000));
  read_with_flips(larger.take(), 400, false);
}

TEST(SpiffsImage, NoiseAndErasedFlashAreNone) {
  EXPECT_EQ(open_bytes(noise(65536)).format(), "none");
  EXPECT_EQ(open_bytes(Bytes(65536, 0xFF)).format(), "none");
  for (unsigned filling = 0; filling < 256; ++filling)
    EXPECT_NE(open_bytes(Bytes(65536, static_cast<Byte>(filling))).format(), "spiffs") << filling;
}

}  // namespace
}  // namespace operculum

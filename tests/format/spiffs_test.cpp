// SPIFFS. No program of its makers is in Debian: images are put together here, after the specification.
#include <gtest/gtest.h>

#include "support/byte_writer.h"
#include "support/open.h"
#include "support/sample_tree.h"
#include "support/sentence.h"

namespace operculum {
namespace {

using namespace test;

constexpr Byte kDataFlags = 0xFC, kIndexFlags = 0xF8, kDeletedFlags = 0x78;  // cleared bits: used, final, ...

/// Writes pages one after another, each block's lookup in front of it.
class SpiffsWriter {
 public:
  SpiffsWriter(std::size_t page, std::size_t block, std::size_t blocks, bool magic, bool counted)
      : page_(page), block_(block), image_(Bytes(block * blocks, 0xFF)) {
    lookup_pages_ = std::max<std::size_t>(1, block / page * 2 / page);
    for (std::size_t i = 0; i < blocks && magic; ++i) {
      std::size_t number = 0x20140529 ^ page ^ (counted ? blocks - i : 0);
      image_.u16(i * block + lookup_pages_ * page - 4, number);
      image_.u16(i * block + lookup_pages_ * page - 2, 7);
    }
    at_ = lookup_pages_;
  }

  /// A file: its index page, then its data.
  void file(std::uint16_t id, const std::string& name, const Bytes& data, std::uint32_t size) {
    Bytes body = ByteWriter().zeros(3).u32(size).u8(1).text(name).take();
    body.resize(3 + 5 + 32);
    put(static_cast<std::uint16_t>(id | 0x8000), 0, kIndexFlags, body);
    std::size_t room = page_ - 5;
    for (std::size_t span = 0; span * room < data.size(); ++span) {
      std::size_t count = std::min(room, data.size() - span * room);
      auto begin = data.begin() + static_cast<std::ptrdiff_t>(span * room);
      put(id, static_cast<std::uint16_t>(span), kDataFlags,
          Bytes(begin, begin + static_cast<std::ptrdiff_t>(count)));
    }
  }
  void file(std::uint16_t id, const std::string& name, const Bytes& data) {
    file(id, name, data, static_cast<std::uint32_t>(data.size()));
  }

  std::size_t put(std::uint16_t id, std::uint16_t span, Byte flags, const Bytes& body) {
    std::size_t pages = block_ / page_, number = at_ / pages, within = at_ % pages;
    image_.u16(number * block_ + (within - lookup_pages_) * 2, id);
    std::size_t place = at_ * page_;
    image_.put(place, ByteWriter().u16(id).u16(span).u8(flags).bytes(body).view());
    if (++at_ % pages == 0) at_ += lookup_pages_;
    return place;
  }

  Bytes take() { return image_.take(); }

 private:
  std::size_t page_, block_, lookup_pages_ = 1, at_ = 0;
  Canvas image_;
};

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
  writer.put(0x8002, 0, kDeletedFlags, ByteWriter().zeros(3).u32(4).u8(1).text("/gone.txt").take());
  writer.put(2, 0, kDeletedFlags, to_bytes("gone"));
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
  EXPECT_EQ(open_bytes(Bytes(65536, 0)).format(), "none");
}

}  // namespace
}  // namespace operculum

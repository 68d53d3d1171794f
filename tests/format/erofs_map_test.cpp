// The maps of packed files in EROFS: what they claim is compared with what can be there.
#include "format/filesystem/erofs_map.h"

#include <gtest/gtest.h>

#include "support/byte_writer.h"
#include "support/sentence.h"

namespace operculum::erofs {
namespace {

constexpr std::uint64_t kWhole = std::uint64_t{1} << 63;  // of a map header: the file is one fragment

std::vector<Block> whole_fragment(std::uint64_t at, std::uint64_t size, std::uint64_t fragments) {
  SourcePtr meta = make_memory_source(test::ByteWriter().u64(kWhole | at).take());
  return map_blocks(*meta, {.size = size, .map_at = 0, .block_size = 4096, .fragments = fragments});
}

TEST(ErofsMap, AFragmentComesInPiecesThatCanBeHeld) {
  constexpr std::uint64_t kSize = (std::uint64_t{5} << 20) + 7;
  std::vector<Block> blocks = whole_fragment(100, kSize, kSize + 100);
  std::uint64_t done = 0;
  for (const Block& block : blocks) {
    EXPECT_EQ(block.unpacked_offset, done);
    EXPECT_EQ(block.stored_offset, 100 + done);
    EXPECT_EQ(block.tag, fragment_packing);
    EXPECT_LE(block.unpacked_size, std::uint64_t{1} << 20);
    done += block.unpacked_size;
  }
  EXPECT_EQ(done, kSize);
}

TEST(ErofsMap, AFragmentOutsideOfItsFileIsRefused) {
  EXPECT_EQ(test::sentence([] { whole_fragment(0, std::uint64_t{1} << 61, 1000); }),
            "EROFS: a fragment of 2305843009213693952 bytes at 0 is not within the 1000 of the file that "
            "holds them");
  EXPECT_NE(test::sentence([] { whole_fragment(990, 11, 1000); }), "");
  EXPECT_NE(test::sentence([] { whole_fragment(0, std::uint64_t{1} << 50, std::uint64_t{1} << 51); }), "");
}

/// A file of two clusters, each the head of an extent, packed by one algorithm.
std::vector<Block> two_heads(std::uint64_t algorithm, std::uint64_t first_begins,
                             std::uint64_t second_begins) {
  constexpr std::uint64_t kHead = 1;
  test::ByteWriter map;
  map.u32(0).u16(0).u8(algorithm).u8(0).zeros(8);
  map.u16(kHead).u16(first_begins).u32(7);
  map.u16(kHead).u16(second_begins).u32(8);
  return map_blocks(*make_memory_source(map.take()), {.size = 8192, .map_at = 0, .block_size = 4096});
}

TEST(ErofsMap, SizesThatNoFileHasAreRefused) {
  SourcePtr meta = make_memory_source(Bytes(4096));
  EXPECT_EQ(test::sentence([&] {
              map_blocks(*meta, {.size = std::uint64_t{1} << 60, .map_at = 0, .block_size = 4096});
            }),
            "EROFS: a packed file of 1152921504606846976 bytes is larger than any here");
}

TEST(ErofsMap, ExtentsFollowOneAnother) {
  std::vector<Block> blocks = two_heads(0, 0, 10);
  ASSERT_EQ(blocks.size(), 2u);
  EXPECT_EQ(blocks[0].unpacked_size, 4106u);
  EXPECT_EQ(blocks[1].stored_offset, 8u * 4096);
  EXPECT_EQ(test::sentence([] { two_heads(0, 5000, 10); }),
            "EROFS: the extents of a packed file are out of order");
  EXPECT_EQ(test::sentence([] { two_heads(0, 10, 10); }), "EROFS: the map of a packed file has a gap");
  EXPECT_EQ(test::sentence([] { two_heads(9, 0, 10); }), "Unsupported: EROFS compression number 9");
}

}  // namespace
}  // namespace operculum::erofs

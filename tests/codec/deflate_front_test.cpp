// Where deflate data without a header begins, and where it ends.
#include "codec/deflate_front.h"

#include <gtest/gtest.h>

#include <algorithm>

#include "codec/codec.h"
#include "support/byte_writer.h"
#include "support/sample_tree.h"

namespace operculum::test {
namespace {

Bytes tide_table(unsigned lines) {
  std::string text;
  for (unsigned i = 0; i < lines; ++i)
    text += "day " + std::to_string(i * 7 % 365) + " high " + std::to_string(i * i % 997) + "\n";
  return to_bytes(text);
}

PackSettings at_level(int level) {
  PackSettings settings;
  settings.level = level;
  return settings;
}

std::optional<PackedExtent> extent_of(const Bytes& bytes, std::string_view codec, std::uint64_t at = 0,
                                      std::uint64_t may_read = 1 << 20) {
  return deflate_extent(make_memory_source(bytes), at, bytes.size(), codec, may_read);
}

std::size_t next_front(ByteView bytes, std::size_t at, std::size_t end) {
  return DeflateFronts().next(bytes, at, end);
}

TEST(DeflateFront, IsFoundWhereverItLies) {
  for (int level : {1, 4, 6, 9}) {
    Bytes packed = encode("deflate", tide_table(500), at_level(level));
    for (std::size_t at : {0u, 1u, 7u, 8u, 1000u}) {
      Bytes bytes(at, 0xFF);
      bytes.insert(bytes.end(), packed.begin(), packed.end());
      EXPECT_EQ(next_front(bytes, 0, bytes.size()), at) << level;
      EXPECT_GT(next_front(bytes, at + 1, bytes.size()), at) << level;
      EXPECT_EQ(next_front(bytes, 0, at), at) << "the end of what is looked at";
    }
  }
}

TEST(DeflateFront, ShortDataIsFoundWhereItsSurroundingsLookPackedToo) {
  Bytes packed = encode("deflate", tide_table(25));
  ASSERT_LT(packed.size(), 500u);
  for (std::size_t at = 0; at < 700; at += 13) {
    Bytes bytes = noise(at, 3), behind = noise(600, 4);
    bytes.insert(bytes.end(), packed.begin(), packed.end());
    bytes.insert(bytes.end(), behind.begin(), behind.end());
    EXPECT_EQ(next_front(bytes, 0, bytes.size()), at);
  }
}

TEST(DeflateFront, OfMuchThatLooksPackedOnlyLikelyPlacesAreLookedAt) {
  Bytes packed = encode("deflate", tide_table(900));
  auto found = [&](std::size_t at, const Bytes& in_front) {
    Bytes bytes = noise(at - in_front.size(), 5);
    bytes.erase(
        std::remove_if(bytes.begin(), bytes.end(), [](Byte b) { return b == 0 || b == 0xFF || b == 0x78; }),
        bytes.end());
    bytes.insert(bytes.end(), in_front.begin(), in_front.end());
    std::size_t place = bytes.size();
    bytes.insert(bytes.end(), packed.begin(), packed.end());
    bytes.resize(bytes.size() + 100);
    return DeflateFronts(0).next(bytes, 0, bytes.size()) == place;
  };
  for (std::size_t at = 200; at < 330; at += 7) {
    EXPECT_FALSE(found(at, {})) << at;
    EXPECT_TRUE(found(at, {0})) << at;
    EXPECT_TRUE(found(at, {0xFF, 1, 2, 3, 4, 5, 6, 7})) << at;
    EXPECT_FALSE(found(at, {0, 1, 2, 3, 4, 5, 6, 7, 8})) << at;
    EXPECT_TRUE(found(at, {0x78, 0x9C})) << at;
    EXPECT_FALSE(found(at, {0x78, 0x9C, 1})) << at;
  }
  EXPECT_EQ(DeflateFronts(0).next(packed, 0, packed.size()), 0u);
}

TEST(DeflateFront, NeedsItsWholeHeader) {
  Bytes packed = encode("deflate", tide_table(500));
  std::size_t fits = 0;
  for (std::size_t size = 0; size <= kDeflateHeadSize; ++size) {
    bool found = next_front(ByteView(packed).first(size), 0, size) == 0 && size > 0;
    if (found) ++fits;
    EXPECT_EQ(found, fits > 0) << size;  // from some size on
  }
  EXPECT_GT(fits, 400u);
  EXPECT_LT(fits, kDeflateHeadSize - 20);
}

TEST(DeflateFront, ChanceHardlyEverLooksLikeIt) {
  Bytes bytes = noise(8 << 20);
  std::size_t fronts = 0;
  for (std::size_t at = 0; (at = next_front(bytes, at, bytes.size())) < bytes.size(); ++at) {
    ++fronts;
    std::uint64_t may_read = 1 << 20;
    auto extent = deflate_extent(make_memory_source(bytes), at, bytes.size(), "deflate", may_read);
    EXPECT_FALSE(extent && extent->plain >= 512) << at;
  }
  EXPECT_LT(fronts, 4u);
  for (Byte filling : {0x00, 0xFF, 0x55, 0x04, 0x24}) {
    Bytes filled(5000, filling);
    EXPECT_EQ(next_front(filled, 0, filled.size()), filled.size()) << int{filling};
  }
}

TEST(DeflateExtent, EndsWhereTheDataEnds) {
  Bytes plain = tide_table(3000);
  for (std::string_view codec : {"deflate", "zlib", "gzip"}) {
    Bytes packed = encode(codec, plain), bytes = noise(77);
    bytes.insert(bytes.end(), packed.begin(), packed.end());
    Bytes whole = bytes;
    whole.resize(whole.size() + 300, 0xEE);
    auto extent = extent_of(whole, codec, 77);
    ASSERT_TRUE(extent) << codec;
    EXPECT_EQ(extent->packed, packed.size()) << codec;
    EXPECT_EQ(extent->plain, plain.size()) << codec;
    bytes.pop_back();
    EXPECT_FALSE(extent_of(bytes, codec, 77)) << codec << " cut";
    if (codec == "deflate") continue;
    whole[77 + packed.size() - 1] ^= 1;  // of the checksum
    EXPECT_FALSE(extent_of(whole, codec, 77)) << codec << " damaged";
  }
}

TEST(DeflateExtent, OfGzipGoesThroughAllMembers) {
  Bytes first = encode("gzip", tide_table(100)), second = encode("gzip", tide_table(200));
  Bytes both = first;
  both.insert(both.end(), second.begin(), second.end());
  auto extent = extent_of(both, "gzip");
  ASSERT_TRUE(extent);
  EXPECT_EQ(extent->packed, first.size() + second.size());
}

TEST(DeflateExtent, CountsWhatWasDecodedInVain) {
  Bytes packed = encode("deflate", tide_table(3000));
  SourcePtr cut = make_memory_source(Bytes(packed.begin(), packed.end() - 1));
  std::uint64_t may_read = 2 * packed.size();
  EXPECT_FALSE(deflate_extent(cut, 0, cut->size(), "deflate", may_read));
  EXPECT_EQ(may_read, packed.size() + 1);
  may_read = 10;  // stops soon
  EXPECT_FALSE(deflate_extent(make_memory_source(Bytes(200'000, 0)), 0, 200'000, "deflate", may_read));
  Bytes bomb = encode("deflate", Bytes(200 << 20, 0));
  EXPECT_FALSE(extent_of(bomb, "deflate")) << "more than usual data makes";
}

}  // namespace
}  // namespace operculum::test

// Blocks of bzip2 data are decoded side by side; what comes out is what one decoder would give, in order.
#include <bzlib.h>
#include <gtest/gtest.h>

#include <random>

#include "base/error.h"
#include "codec/bzip2_splitter.h"
#include "codec/codec.h"
#include "support/byte_writer.h"

namespace operculum {
namespace {

using test::to_bytes;

constexpr int kSmallestBlocks = 1;  // units of 100,000 bytes

Bytes sample(std::size_t size) {
  std::mt19937 random(26);
  Bytes bytes(size);
  for (Byte& byte : bytes) byte = static_cast<Byte>('a' + random() % 12);
  return bytes;
}

Bytes packed(const Bytes& plain) {
  Bytes out(plain.size() + plain.size() / 100 + 601);
  auto size = static_cast<unsigned>(out.size());
  EXPECT_EQ(BZ2_bzBuffToBuffCompress(reinterpret_cast<char*>(out.data()), &size,
                                     reinterpret_cast<char*>(const_cast<Byte*>(plain.data())),
                                     static_cast<unsigned>(plain.size()), kSmallestBlocks, 0, 0),
            BZ_OK);
  out.resize(size);
  return out;
}

struct Decoded {
  Bytes plain;
  std::string error;
  bool cut = false;
};

Decoded decode(const Bytes& bytes, std::size_t step = 70'001) {
  Decoded out;
  Bytes buffer(step);
  StreamPtr stream = open_decoder("bzip2", make_source_stream(make_memory_source(bytes)));
  try {
    while (std::size_t count = stream->read(buffer))
      out.plain.insert(out.plain.end(), buffer.begin(), buffer.begin() + static_cast<std::ptrdiff_t>(count));
  } catch (const Malformed& error) {
    out.error = error.what();
    out.cut = dynamic_cast<const CutShort*>(&error) != nullptr;
  }
  return out;
}

std::vector<BitRun> blocks_of(const Bytes& bytes) {
  std::vector<BitRun> blocks;
  Bzip2Splitter splitter;
  for (std::size_t at = 0; at < bytes.size();) {
    at += splitter.feed(ByteView(bytes).subspan(at));
    if (auto block = splitter.take_block()) blocks.push_back(std::move(*block));
  }
  EXPECT_TRUE(splitter.ended());
  return blocks;
}

TEST(Bzip2, ManyBlocksAndMembersComeOutInOrder) {
  Bytes plain = sample(1'250'000), one = packed(plain), two = one;
  EXPECT_GE(blocks_of(one).size(), 12u);
  two.insert(two.end(), one.begin(), one.end());
  Bytes twice = plain;
  twice.insert(twice.end(), plain.begin(), plain.end());
  for (std::size_t step : {1u << 20, 70'001u, 999u}) {
    Decoded decoded = decode(two, step);
    EXPECT_EQ(decoded.error, "");
    EXPECT_EQ(decoded.plain, twice);
  }
}

TEST(Bzip2, ABlockThatGrowsBeyondItsBufferIsWhole) {
  Bytes plain(9'000'000, 0);  // runs: one block of 100,000 makes up to 5 MB
  EXPECT_EQ(decode(packed(plain)).plain, plain);
}

TEST(Bzip2, ACutFileGivesEveryWholeBlock) {
  Bytes plain = sample(450'000), whole = packed(plain);
  constexpr std::size_t kBlock = 99'000;  // a little less than 100,000 go into one
  std::size_t blocks = blocks_of(whole).size();
  for (std::size_t size = 0; size < whole.size(); size += whole.size() / 40) {
    Decoded decoded = decode({whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(size)});
    EXPECT_TRUE(decoded.cut) << size << ": " << decoded.error;
    EXPECT_TRUE(std::equal(decoded.plain.begin(), decoded.plain.end(), plain.begin())) << size;
    EXPECT_GE(decoded.plain.size() + kBlock, size * kBlock * (blocks - 1) / whole.size() / 2) << size;
  }
  Decoded unfinished = decode({whole.begin(), whole.end() - 1});
  EXPECT_TRUE(unfinished.cut);
  EXPECT_EQ(unfinished.plain, plain) << "only the checksum of everything is missing";
  whole.resize(whole.size() - 7);  // into the mark of the end
  EXPECT_EQ(decode(whole).plain, plain);
}

TEST(Bzip2, ADamagedBlockIsToldByItsPlace) {
  Bytes plain = sample(450'000), bytes = packed(plain);
  bytes[bytes.size() / 2] ^= 0x10;
  Decoded decoded = decode(bytes);
  EXPECT_NE(decoded.error.find("the block is damaged"), std::string::npos) << decoded.error;
  EXPECT_GE(decoded.plain.size(), 99'000u);
  EXPECT_LT(decoded.plain.size(), plain.size());
}

TEST(Bzip2, TheChecksumOfEverythingIsCompared) {
  Bytes bytes = packed(sample(250'000));
  bytes[bytes.size() - 3] ^= 1;
  EXPECT_NE(decode(bytes).error.find("the checksum at the end does not fit its blocks"), std::string::npos);
}

TEST(Bzip2, WhatIsNoBlockIsTold) {
  EXPECT_NE(decode(to_bytes("BZh0nothing of the kind")).error.find("expected a bzip2 header"),
            std::string::npos);
  EXPECT_NE(decode(to_bytes("BZh9 nothing of the kind")).error.find("expected the mark of a block"),
            std::string::npos);
  Bytes endless = to_bytes("BZh91AY&SY");
  endless.resize(6 << 20, 0x55);
  EXPECT_NE(decode(endless).error.find("goes on longer than a block can"), std::string::npos);
}

/// Chance can put a mark into the midst of a block: here one is cut in two by hand.
TEST(Bzip2, TwoHalvesOfABlockAreJoined) {
  Bytes plain = sample(90'000), bytes = packed(plain);
  std::vector<BitRun> blocks = blocks_of(bytes);
  ASSERT_EQ(blocks.size(), 1u);
  for (std::size_t cut = 200'003; cut < 200'011; ++cut) {
    const BitRun& whole = blocks.front();
    BitRun first{{whole.bytes.begin(), whole.bytes.begin() + static_cast<std::ptrdiff_t>(cut / 8 + 1)},
                 whole.begin,
                 cut};
    BitRun next{{whole.bytes.begin() + static_cast<std::ptrdiff_t>(cut / 8), whole.bytes.end()},
                cut % 8,
                whole.end - cut / 8 * 8};
    Bzip2Block half(first, '1', 0), block(joined(first, next), '1', 0);
    Bytes out(plain.size() + 1);
    EXPECT_EQ(half.read(out), 0u);
    EXPECT_TRUE(half.damaged());
    EXPECT_EQ(block.read(out), plain.size());
    out.resize(plain.size());
    EXPECT_EQ(out, plain);
    EXPECT_FALSE(block.damaged());
  }
}

}  // namespace
}  // namespace operculum

// Packed data that is taken over as it lies.
#include "container/packed_run.h"

#include <gtest/gtest.h>

#include "base/checksum.h"
#include "codec/codec.h"
#include "support/sample_tree.h"

namespace operculum::test {
namespace {

Bytes bytes_of(const SourcePtr& source) {
  return read_up_to(*source, 0, source->size());
}

PackedRun run_of(std::string_view codec, Bytes packed) {
  return {codec, make_memory_source(std::move(packed)), std::nullopt, std::nullopt};
}

TEST(PackedRuns, DeflateIsTakenOutOfZlib) {
  Bytes plain(9000, 'w');
  Bytes packed = encode("zlib", plain);
  auto taken = taken_over(run_of("zlib", packed), "deflate");
  ASSERT_TRUE(taken);
  EXPECT_EQ(taken->plain_size, plain.size());
  EXPECT_EQ(taken->crc32, crc32(0, plain));
  EXPECT_EQ(bytes_of(taken->bytes), Bytes(packed.begin() + 2, packed.end() - 4));
}

TEST(PackedRuns, EndWhereTheirDataEnds) {
  Bytes plain = noise(5000);
  Bytes packed = encode("deflate", plain), padded = packed;
  padded.resize(packed.size() + 100);
  auto taken = taken_over(run_of("deflate", padded), "deflate");
  ASSERT_TRUE(taken);
  EXPECT_EQ(bytes_of(taken->bytes), packed);
}

TEST(PackedRuns, OfOtherCodecsOrDamagedAreNotTaken) {
  Bytes packed = encode("deflate", Bytes(500, 'w'));
  EXPECT_FALSE(taken_over(run_of("deflate", packed), "zstd"));
  EXPECT_FALSE(taken_over(run_of("deflate", Bytes(packed.begin(), packed.end() - 2)), "deflate"));
  EXPECT_FALSE(taken_over(run_of("zlib", {0x78, 0xbb, 1, 2, 3, 4}), "deflate")) << "it needs a dictionary";
  EXPECT_FALSE(taken_over(run_of("zlib", {0x78}), "deflate"));
  Bytes two = encode("zstd", Bytes(500, 'w')), second = encode("zstd", Bytes(500, 'x'));
  two.insert(two.end(), second.begin(), second.end());
  EXPECT_FALSE(taken_over(run_of("zstd", two), "zstd")) << "it is two files one after another";
}

TEST(PackedRuns, WhatAContainerStatesIsBelieved) {
  PackedRun run = run_of("deflate", {1, 2, 3});
  run.plain_size = 7, run.crc32 = 9;
  auto taken = taken_over(run, "deflate");
  ASSERT_TRUE(taken);
  EXPECT_EQ(taken->crc32, 9u);
  EXPECT_EQ(taken->plain_size, 7u);
}

TEST(PackedRuns, DeflateBecomesAGzipFile) {
  Bytes plain = noise(3000);
  auto taken = taken_over(run_of("deflate", encode("deflate", plain)), "deflate");
  ASSERT_TRUE(taken);
  EXPECT_EQ(read_all(*open_decoder("gzip", make_source_stream(as_gzip(*taken))), 1 << 20), plain);
}

}  // namespace
}  // namespace operculum::test

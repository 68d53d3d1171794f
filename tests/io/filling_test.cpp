#include "io/filling.h"

#include <gtest/gtest.h>

#include "support/counting_source.h"
#include "support/sample_tree.h"

namespace operculum::test {
namespace {

Bytes joined(Bytes front, const Bytes& back) {
  front.insert(front.end(), back.begin(), back.end());
  return front;
}

TEST(Filling, IsARunOfZerosOrOnesAlone) {
  SourcePtr source = make_memory_source(joined(joined(Bytes(300), Bytes(200, 0xff)), Bytes(100, 'x')));
  EXPECT_TRUE(is_filling(*source, 0, 300));
  EXPECT_TRUE(is_filling(*source, 300, 500));
  EXPECT_FALSE(is_filling(*source, 0, 301));  // two runs
  EXPECT_FALSE(is_filling(*source, 500, 600));
  EXPECT_TRUE(is_filling(*source, 400, 400));
  EXPECT_EQ(filling_at(*source, 100, 400), 200u);
  EXPECT_EQ(filling_at(*source, 550, 50), 0u);
}

TEST(Filling, AtTheEndIsFoundToTheByte) {
  for (std::size_t tail : {std::size_t{1}, std::size_t{4096}, std::size_t{65'536}, std::size_t{200'001}}) {
    Bytes front = noise(100'003);
    front.back() = 7;
    SourcePtr source = make_memory_source(joined(front, Bytes(tail, 0xff)));
    EXPECT_EQ(filling_at_end(*source, 0), front.size());
    EXPECT_EQ(filling_at_end(*source, front.size() + tail / 2),
              front.size() + tail / 2);  // not in front of it
    EXPECT_EQ(filling_at_end(*source, source->size()), source->size());
  }
  EXPECT_EQ(filling_at_end(*make_memory_source(noise(1'000)), 0), 1'000u);
}

/// Of a long run samples are read, and something in it that they do not meet is found by looking at all.
TEST(Filling, SamplesReadLittle) {
  constexpr std::size_t kSize = 48 << 20;
  Bytes bytes(kSize);
  CountingSource clean(bytes);
  EXPECT_TRUE(is_filling(clean, 0, kSize, Look::samples));
  EXPECT_EQ(filling_at_end(clean, 4096, Look::samples), 4096u);
  EXPECT_LT(clean.given.load(), 4u << 20);
  bytes[kSize / 2 + 12'345] = 1;
  SourcePtr marked = make_memory_source(bytes);
  EXPECT_FALSE(is_filling(*marked, 0, kSize, Look::whole));
  EXPECT_EQ(filling_at_end(*marked, 0, Look::whole), kSize / 2 + 12'346);
  std::fill(bytes.begin() + (kSize / 2), bytes.begin() + (kSize / 2) + (1 << 20), Byte{3});
  SourcePtr full = make_memory_source(bytes);
  EXPECT_FALSE(is_filling(*full, 0, kSize, Look::samples));
  EXPECT_GE(filling_at_end(*full, 0, Look::samples), kSize / 2 + (1 << 20));  // late, never early
}

}  // namespace
}  // namespace operculum::test

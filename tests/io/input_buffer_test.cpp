// A buffer in front of a stream: what was looked at stays when more is wanted, however large that is.
#include "io/input_buffer.h"

#include <gtest/gtest.h>

#include "io/source.h"
#include "support/sample_tree.h"

namespace operculum {
namespace {

bool same(ByteView a, ByteView b) {
  return std::equal(a.begin(), a.end(), b.begin(), b.end());
}

TEST(InputBuffer, GrowsAroundWhatWasNotConsumed) {
  Bytes bytes = test::noise(700'000);
  InputBuffer input(make_source_stream(make_memory_source(bytes)));
  EXPECT_TRUE(same(input.ensure(10).first(10), ByteView(bytes).first(10)));
  input.consume(5);
  ByteView large = input.ensure(400'000);  // more than it holds at first
  ASSERT_GE(large.size(), 400'000u);
  EXPECT_TRUE(same(large, ByteView(bytes).subspan(5, large.size())));
  input.consume(large.size() - 3);
  EXPECT_TRUE(same(input.ensure(200'000).first(200'000), ByteView(bytes).subspan(2 + large.size(), 200'000)));
  EXPECT_EQ(input.consumed(), 2 + large.size());
}

TEST(InputBuffer, GivesWhatIsLeftAtTheEnd) {
  Bytes bytes = test::noise(1000);
  InputBuffer input(make_source_stream(make_memory_source(bytes)));
  EXPECT_EQ(input.ensure(2000).size(), 1000u);
  input.consume(1000);
  EXPECT_TRUE(input.view().empty());
  EXPECT_TRUE(input.ensure(1).empty());
  InputBuffer nothing(make_source_stream(make_memory_source({})));
  EXPECT_TRUE(nothing.view().empty());
}

}  // namespace
}  // namespace operculum

#include "io/flatten.h"

#include <gtest/gtest.h>

#include "support/byte_writer.h"
#include "support/sample_tree.h"

namespace operculum::test {
namespace {

TEST(Flatten, ReadsWhatWasCutAndJoinedOverAndOver) {
  SourcePtr file = make_memory_source(noise(5000));
  SourcePtr all = file;
  Bytes expected = read_up_to(*file, 0, 5000);
  for (std::size_t i = 0; i < 60; ++i) {  // as a container is changed step by step
    std::size_t at = 100 + 70 * i % 4800;
    Bytes put_in = to_bytes("step " + std::to_string(i));
    all = make_joined({make_slice(all, 0, at), make_memory_source(put_in), make_slice(all, at, all->size())});
    all = flattened(all);
    expected.insert(expected.begin() + static_cast<std::ptrdiff_t>(at), put_in.begin(), put_in.end());
  }
  EXPECT_EQ(read_up_to(*all, 0, all->size()), expected);
}

TEST(Flatten, LongRunsLieInTheirSourceAtOnceAndShortOnesBecomeOne) {
  SourcePtr file = make_memory_source(noise(5000));
  SourcePtr inner = make_joined({make_slice(file, 1000, 600), make_slice(file, 1600, 600)});
  SourcePtr all =
      flattened(make_joined({make_memory_source(to_bytes("tide")), make_memory_source(to_bytes("pool")),
                             make_slice(inner, 100, 1000)}));
  auto run = all->origin_at(8);
  ASSERT_TRUE(run);
  EXPECT_EQ(run->length, 1000u);  // two runs that follow one another are one
  auto further = run->source->origin_at(run->at);
  ASSERT_TRUE(further);
  EXPECT_EQ(further->source, file.get());
  EXPECT_EQ(further->at, 1100u);
  auto front = all->origin_at(0);
  ASSERT_TRUE(front);
  EXPECT_EQ(front->length, 8u);
}

TEST(Flatten, OfNothingIsEmpty) {
  EXPECT_EQ(flattened(make_memory_source({}))->size(), 0u);
}

}  // namespace
}  // namespace operculum::test

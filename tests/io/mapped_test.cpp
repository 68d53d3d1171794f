// Sources that put an image together: cached, mapped, a list of runs; and the cache of blocks beneath them.
#include <gtest/gtest.h>

#include <atomic>
#include <thread>

#include "base/error.h"
#include "io/block_cache.h"
#include "io/block_content.h"
#include "io/cached_source.h"
#include "io/run_source.h"
#include "support/counting_source.h"
#include "support/refusal.h"
#include "support/sample_tree.h"

namespace operculum {
namespace {

using namespace test;

TEST(CachedSource, ReadsAChunkOnce) {
  auto counting = std::make_shared<CountingSource>(noise(100'000));
  SourcePtr cached = make_cached(counting, 4096, 1 << 20);
  for (std::size_t at = 0; at < 8192; at += 16)
    EXPECT_EQ(read_up_to(*cached, at, 16), read_up_to(*make_memory_source(noise(100'000)), at, 16));
  EXPECT_EQ(counting->reads, 2u);
  EXPECT_EQ(read_up_to(*cached, 99'990, 100).size(), 10u);
  EXPECT_EQ(read_up_to(*cached, 100'000, 1).size(), 0u);
  EXPECT_EQ(read_up_to(*cached, 4090, 20), read_up_to(*make_memory_source(noise(100'000)), 4090, 20));
}

TEST(BlockCache, MakesABlockOnceForManyThreads) {
  BlockCache cache(1 << 20);
  std::atomic<int> made{0};
  std::vector<std::thread> threads;
  for (int i = 0; i < 4; ++i) {
    threads.emplace_back([&] {
      for (std::uint64_t key = 0; key < 50; ++key) {
        BytesPtr block = cache.get(key, [&] {
          ++made;
          return Bytes(100, static_cast<Byte>(key));
        });
        EXPECT_EQ((*block)[99], key);
      }
    });
  }
  for (std::thread& thread : threads) thread.join();
  EXPECT_EQ(made, 50);
}

TEST(BlockCache, ForgetsWhatWasUsedLongestAgo) {
  BlockCache cache(1000);
  int made = 0;
  auto get = [&](std::uint64_t key) {
    cache.get(key, [&] {
      ++made;
      return Bytes(400);
    });
  };
  get(1), get(2), get(1), get(3);  // 2 has to go
  EXPECT_EQ(made, 3);
  get(1);
  EXPECT_EQ(made, 3);
  get(2);
  EXPECT_EQ(made, 4);
}

TEST(BlockCache, TriesAgainAfterAFailure) {
  BlockCache cache(1000);
  EXPECT_REFUSAL(cache.get(1, []() -> Bytes { throw Malformed("no"); }), Malformed, "no");
  EXPECT_EQ(cache.get(1, [] { return Bytes(3); })->size(), 3u);
}

TEST(RunSource, PutsAnImageTogether) {
  SourcePtr whole = make_memory_source(to_bytes("0123456789abcdef"));
  std::vector<ImageRun> runs = {{20, 4, MappedRun::From::packed, 2, 3, 7},
                                {0, 5, MappedRun::From::stored, 10},
                                {8, 2, MappedRun::From::stored, 0}};
  RunSource source(whole, 26, runs, [](const ImageRun& run) {
    EXPECT_EQ(run.tag, 7u);
    return to_bytes("xy");  // shorter than the run: repeated
  });
  Bytes all = read_up_to(source, 0, 100);
  using namespace std::string_view_literals;
  EXPECT_EQ(as_text(all), "abcde\0\0\00001\0\0\0\0\0\0\0\0\0\0xyxy\0\0"sv);
  EXPECT_EQ(as_text(read_up_to(source, 21, 2)), "yx");
}

TEST(RunSource, RefusesRunsThatOverlapOrLeaveTheImage) {
  SourcePtr whole = make_memory_source(Bytes(100));
  EXPECT_REFUSAL(
      RunSource(whole, 50, {{0, 10, MappedRun::From::stored, 0}, {9, 3, MappedRun::From::stored, 0}},
                nullptr),
      Malformed, "two runs of the image overlap at offset 9");
  EXPECT_REFUSAL(RunSource(whole, 50, {{45, 10, MappedRun::From::stored, 0}}, nullptr), Malformed,
                 "a run of the image ends at 55, the image at 50");
}

TEST(RunSource, TellsWhenItsContainerIsCutShort) {
  SourcePtr whole = make_memory_source(Bytes(10));
  RunSource source(whole, 50, {{0, 20, MappedRun::From::stored, 0}}, nullptr);
  Bytes out(20);
  EXPECT_REFUSAL(source.read_at(0, out), CutShort,
                 "the image's block at offset 0 ends after 10 of 20 bytes; the file is cut short");
}

TEST(BlockContent, StreamsAndSeeks) {
  Bytes plain = noise(10'000);
  std::vector<Block> blocks;
  for (std::size_t at = 0; at < plain.size(); at += 700)
    blocks.push_back({at, std::min<std::size_t>(700, plain.size() - at), at, 0, 0});
  ContentPtr content = make_block_content(blocks, [&](const Block& block, ByteSpan out) {
    std::copy_n(plain.begin() + static_cast<std::ptrdiff_t>(block.stored_offset), out.size(), out.begin());
  });
  for (std::size_t step : {1, 99, 700, 5000}) {
    StreamPtr stream = content->stream();
    Bytes all, part(step);
    while (std::size_t count = stream->read(part))
      all.insert(all.end(), part.begin(), part.begin() + static_cast<std::ptrdiff_t>(count));
    EXPECT_TRUE(all == plain) << step;
  }
  StreamPtr stream = content->stream();
  Bytes part(10);
  stream->read(part);
  EXPECT_EQ(stream->skip(5000), 5000u);
  stream->read(part);
  EXPECT_EQ(part, Bytes(plain.begin() + 5010, plain.begin() + 5020));
  EXPECT_EQ(stream->skip(100'000), 4980u);
  EXPECT_EQ(read_up_to(*content->source(), 6999, 10), Bytes(plain.begin() + 6999, plain.begin() + 7009));
}

}  // namespace
}  // namespace operculum

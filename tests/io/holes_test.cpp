#include <gtest/gtest.h>

#include "base/error.h"
#include "io/extent_source.h"
#include "io/file_source.h"
#include "io/input_buffer.h"
#include "io/mapped_source.h"
#include "io/read_ahead.h"
#include "support/refusal.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

constexpr std::uint64_t kHuge = std::uint64_t{1} << 60;

/// "tide" at 1,000, "pool" at the very end of 2^60 bytes, nothing else.
SourcePtr sparse() {
  SourcePtr stored = make_memory_source(Bytes{'t', 'i', 'd', 'e', 'p', 'o', 'o', 'l'});
  return make_extent_source(stored, {{1000, 0, 4}, {kHuge - 4, 4, 4}}, kHuge);
}

TEST(Holes, AreToldByExtentsAndSlices) {
  SourcePtr source = sparse();
  EXPECT_EQ(source->hole_at(0), 1000u);
  EXPECT_EQ(source->hole_at(1000), 0u);
  EXPECT_EQ(source->hole_at(1004), kHuge - 4 - 1004);
  EXPECT_EQ(source->hole_at(kHuge), 0u);
  SourcePtr slice = make_slice(source, 500, 400);
  EXPECT_EQ(slice->hole_at(0), 400u) << "no more than the slice has";
  EXPECT_EQ(make_joined({slice, source})->hole_at(400), 1000u);
}

TEST(Holes, AStreamPassesOverThem) {
  StreamPtr stream = make_source_stream(sparse());
  EXPECT_EQ(stream->skip_hole(), 1000u);
  Bytes word(4);
  EXPECT_EQ(read_fully(*stream, word), 4u);
  EXPECT_EQ(as_text(word), "tide");
  EXPECT_EQ(stream->skip_hole(), kHuge - 4 - 1004);
  EXPECT_EQ(read_fully(*stream, word), 4u);
  EXPECT_EQ(as_text(word), "pool");
  EXPECT_EQ(stream->read(word), 0u);
}

TEST(Holes, GoThroughReadingAhead) {
  auto ahead = make_read_ahead(make_source_stream(sparse()));
  std::uint64_t holes = 0;
  std::string text;
  for (auto run = ahead->next_run(); !run.ended(); run = ahead->next_run()) {
    holes += run.hole;
    text += as_text(run.bytes);
  }
  EXPECT_EQ(holes + text.size(), kHuge);
  EXPECT_GT(holes, kHuge - (4 << 20)) << "what is read beside the data is a block or two";
  std::erase(text, '\0');
  EXPECT_EQ(text, "tidepool");
}

TEST(Holes, ReadAsZerosByWhoeverDoesNotAsk) {
  SourcePtr stored = make_memory_source(Bytes{'t'});
  auto ahead = make_read_ahead(make_source_stream(make_extent_source(stored, {{3, 0, 1}}, 5)));
  Bytes all = read_all(*ahead, 100);
  EXPECT_EQ(as_text(all), std::string_view("\0\0\0t\0", 5));
}

TEST(Holes, AScanOverZerosDoesNotReadThem) {
  InputBuffer input(make_source_stream(sparse()));
  EXPECT_EQ(input.skip_zeros(), 1000u);
  input.consume(4);
  EXPECT_EQ(input.skip_zeros(), kHuge - 4 - 1004);
  EXPECT_EQ(as_text(input.view()), "pool");
}

TEST(Holes, TheOneAtTheEndIsFoundFromBehind) {
  SourcePtr stored = make_memory_source(Bytes{'t', 'i', 'd', 'e'});
  EXPECT_EQ(end_of_data(*make_extent_source(stored, {{1000, 0, 4}}, kHuge)), 1004u);
  EXPECT_EQ(end_of_data(*sparse()), kHuge) << "data stands at the very end";
  EXPECT_EQ(end_of_data(*stored), 4u);
}

TEST(Holes, AreToldByFilesWhereTheSystemKnowsThem) {
  test::TempFolder folder;
  std::string path = folder.write("image", "tide");
  std::filesystem::resize_file(path, 64 << 20);
  SourcePtr file = open_file(path);
  EXPECT_EQ(file->hole_at(0), 0u);
  std::uint64_t hole = file->hole_at(1 << 20);
  EXPECT_TRUE(hole == 0 || hole == (63u << 20)) << hole;
}

class StandingStill final : public MappedSource {
 public:
  StandingStill() : MappedSource(make_memory_source({}), 100) {}

 protected:
  MappedRun locate(std::uint64_t) const override { return {MappedRun::From::zeros, 0}; }
};

TEST(Holes, AMapThatStandsStillIsAnError) {
  Bytes out(10);
  EXPECT_REFUSAL(StandingStill().read_at(0, out), Malformed, "the image's map stands still at offset 0");
  EXPECT_EQ(StandingStill().hole_at(0), 0u);
}

class PackedWithoutPacker final : public MappedSource {
 public:
  PackedWithoutPacker() : MappedSource(make_memory_source({}), 100) {}

 protected:
  MappedRun locate(std::uint64_t) const override { return {MappedRun::From::packed, 100}; }
};

TEST(Mapped, APackedBlockWhereThereAreNoneIsTold) {
  EXPECT_REFUSAL(read_up_to(PackedWithoutPacker(), 0, 100), Malformed,
                 "the image has no compressed blocks, but its map names one");
}

}  // namespace
}  // namespace operculum

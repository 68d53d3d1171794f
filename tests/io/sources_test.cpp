#include <gtest/gtest.h>
#include <unistd.h>

#include "base/error.h"
#include "io/block_source.h"
#include "io/extent_source.h"
#include "io/file_source.h"
#include "io/read_ahead.h"
#include "io/spool.h"
#include "support/byte_writer.h"
#include "support/refusal.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

using test::to_bytes;

SourcePtr memory(std::string_view text) {
  return make_memory_source(to_bytes(text));
}
std::string at(const Source& source, std::uint64_t offset, std::size_t count) {
  return std::string(as_text(read_up_to(source, offset, count)));
}

/// Yields some text in small pieces, then throws or ends.
class Dripping final : public Stream {
 public:
  Dripping(std::string text, bool breaks) : text_(std::move(text)), breaks_(breaks) {}
  std::size_t read(ByteSpan out) override {
    if (at_ == text_.size()) {
      if (breaks_) throw Malformed("the stream broke");
      return 0;
    }
    std::size_t count = std::min<std::size_t>({out.size(), 7, text_.size() - at_});
    std::copy_n(text_.begin() + static_cast<std::ptrdiff_t>(at_), count, out.begin());
    at_ += count;
    return count;
  }

 private:
  std::string text_;
  bool breaks_;
  std::size_t at_ = 0;
};

TEST(Source, ReadsShortAtItsEndAndNeverBeyond) {
  SourcePtr source = memory("tidepool");
  EXPECT_EQ(at(*source, 4, 100), "pool");
  EXPECT_EQ(at(*source, 8, 1), "");
  EXPECT_EQ(at(*source, UINT64_MAX, 1), "");
  EXPECT_REFUSAL(read_exactly(*source, 4, 5, "sample"), CutShort,
                 "sample at offset 4: expected 5 bytes, found 4; the file may be cut short");
}

TEST(Source, SlicesAreClippedToWhatIsThere) {
  SourcePtr slice = make_slice(memory("tidepool"), 4, 100);
  EXPECT_EQ(slice->size(), 4u);
  EXPECT_EQ(at(*make_slice(slice, 1, 2), 0, 9), "oo");
  EXPECT_EQ(make_slice(memory("x"), 5, 5)->size(), 0u);
}

TEST(Source, JoinedPartsReadAsOne) {
  SourcePtr joined = make_joined({memory("tide"), memory(""), memory("po"), memory("ol")});
  EXPECT_EQ(joined->size(), 8u);
  EXPECT_EQ(at(*joined, 2, 5), "depoo");
}

TEST(FileSource, SurvivesAFileThatShrinksMeanwhile) {
  test::TempFolder folder;
  SourcePtr source = open_file(folder.write("log", "0123456789"));
  ASSERT_EQ(truncate(folder.path("log").c_str(), 4), 0);
  EXPECT_EQ(at(*source, 0, 10), "0123");
}

TEST(FileSource, RefusesFoldersAndNamesTheReason) {
  test::TempFolder folder;
  EXPECT_REFUSAL(open_file(folder.path()), IoError, "cannot open the file: Is a directory");
  EXPECT_REFUSAL(open_file(folder.path("missing")), IoError,
                 "cannot open the file: No such file or directory");
}

TEST(ExtentSource, FillsHolesWithZerosInBothForms) {
  std::vector<Extent> extents = {{2, 0, 3}, {7, 3, 2}};
  std::string expected("\0\0abc\0\0de\0", 10);
  EXPECT_EQ(at(*make_extent_source(memory("abcde"), extents, 10), 0, 20), expected);
  EXPECT_EQ(as_text(read_all(*make_extent_stream(make_source_stream(memory("abcde")), extents, 10), 100)),
            expected);
}

TEST(ExtentSource, RefusesOverlapsAndExtentsBeyondTheSize) {
  EXPECT_REFUSAL(check_extents({{0, 0, 4}, {3, 4, 4}}, 10), Malformed,
                 "sparse map: the extent at 3 with 4 bytes overlaps another or leaves the entry's 10 bytes");
  EXPECT_REFUSAL(check_extents({{8, 0, 4}}, 10), Malformed,
                 "sparse map: the extent at 8 with 4 bytes overlaps another or leaves the entry's 10 bytes");
  EXPECT_REFUSAL(check_extents({{UINT64_MAX, 0, 4}}, UINT64_MAX), Malformed,
                 "a sparse extent is too large for any file");
}

TEST(BlockSource, DecodesOnlyWhatIsAskedFor) {
  std::vector<std::uint64_t> decoded;
  BlockSource source({{0, 4, 0, 4}, {4, 4, 4, 4}, {8, 2, 8, 2}}, [&](const Block& block) {
    decoded.push_back(block.unpacked_offset);
    return Bytes(static_cast<std::size_t>(block.unpacked_size),
                 static_cast<Byte>('a' + block.unpacked_offset / 4));
  });
  EXPECT_EQ(at(source, 6, 3), "bbc");
  EXPECT_EQ(at(source, 7, 1), "b");
  EXPECT_EQ(decoded, (std::vector<std::uint64_t>{4, 8})) << "the second read comes from the cache";
}

TEST(BlockSource, TellsOfBlocksThatUnpackToAnotherSize) {
  BlockSource source({{0, 4, 0, 4}}, [](const Block&) { return Bytes(3); });
  EXPECT_REFUSAL(at(source, 0, 1), Malformed, "a compressed block has another size than its index says");
}

TEST(Spool, GoesToATemporaryFileWhenMemoryIsUsedUp) {
  SpoolBudget budget(0, 1 << 20);
  Dripping stream("a stream of some length", false);
  SourcePtr source = spool(stream, budget);
  EXPECT_FALSE(source->view().has_value()) << "not in memory";
  EXPECT_EQ(at(*source, 2, 6), "stream");
}

TEST(Spool, StopsAtTheDiskBudgetAndGivesItBack) {
  SpoolBudget budget(0, 10);
  Dripping stream("more than ten bytes", false);
  EXPECT_REFUSAL(spool(stream, budget), LimitExceeded,
                 "an inner container needs more temporary space than allowed; raise it with --max-spool");
  Dripping small("ten bytes!", false);
  EXPECT_EQ(spool(small, budget)->size(), 10u);
}

TEST(ReadAhead, GivesTheSameBytes) {
  std::string text;
  for (int i = 0; i < 400000; ++i) text += static_cast<char>('a' + i % 23);
  StreamPtr stream = make_read_ahead(std::make_unique<Dripping>(text, false));
  EXPECT_EQ(as_text(read_all(*stream, 1 << 20)), text);
}

TEST(ReadAhead, PassesErrorsOnBehindTheBytesBeforeThem) {
  StreamPtr stream = make_read_ahead(std::make_unique<Dripping>("before the break", true));
  Bytes bytes(16);
  EXPECT_EQ(read_fully(*stream, bytes), 16u);
  EXPECT_EQ(as_text(bytes), "before the break");
  EXPECT_REFUSAL(stream->read(bytes), Malformed, "the stream broke");
}

TEST(ReadAhead, CanBeLeftEarly) {
  StreamPtr stream = make_read_ahead(std::make_unique<Dripping>(std::string(10 << 20, 'x'), false));
  Bytes one(1);
  EXPECT_EQ(stream->read(one), 1u);
}

/// Files are read, not mapped: one that is cut while it is open ends early, and no signal comes.
TEST(FileSource, AFileThatIsCutUnderUsEndsEarly) {
  test::TempFolder folder;
  std::string path = folder.write("tides.bin", ByteView(Bytes(1 << 20, 't')));
  SourcePtr file = open_file(path);
  Bytes out(4096);
  ASSERT_EQ(file->read_at(900'000, out), 4096u);
  ASSERT_EQ(truncate(path.c_str(), 500'000), 0);
  EXPECT_EQ(file->read_at(900'000, out), 0u);
  EXPECT_EQ(file->read_at(499'000, out), 1000u);
  EXPECT_EQ(file->hole_at(600'000), 0u);  // what is gone is no hole
  EXPECT_REFUSAL(read_exactly(*file, 900'000, 10, "the tides"), Malformed,
                 "the tides at offset 900000: expected 10 bytes, found 0; the file may be cut short");
}

}  // namespace
}  // namespace operculum

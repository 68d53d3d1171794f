// Places that are not counted from the front of the file: back from its end or from the records, as numbers
// below zero, or from where the record itself lies.
#include <gtest/gtest.h>

#include <functional>

#include "container/rewrite.h"
#include "support/byte_writer.h"
#include "support/sample_tree.h"
#include "support/studied.h"

namespace operculum::study {
namespace {

using namespace test;

/// What a record stores of a place, when the record and the records begin and the file ends there.
struct Where {
  std::uint64_t place, record, records, end;
};
using Stored = std::function<std::uint64_t(const Where&)>;

enum class Records { in_front, behind };

/// Names of 16 bytes, places and sizes; behind the data a trailer tells how many there are.
struct Pack {
  std::vector<File> files = exhibits(24);
  Records records = Records::behind;
  bool big = false, sizes = true;

  Bytes made(const Stored& stored) const {
    constexpr std::uint64_t kHead = 8, kTrailer = 8;
    const std::uint64_t stride = sizes ? 24 : 20, table = stride * files.size();
    std::uint64_t data = 0;
    for (const File& file : files) data += file.data.size();
    const bool front = records == Records::in_front;
    Where where{front ? kHead + table : kHead, 0, front ? kHead : kHead + data, 0};
    where.end = kHead + table + data + (front ? 0 : kTrailer);
    ByteWriter index, contents;
    for (const File& file : files) {
      where.record = where.records + index.size();
      index.text(padded(file.name, 16));
      number(index, stored(where));
      if (sizes) number(index, file.data.size());
      contents.bytes(file.data);
      where.place += file.data.size();
    }
    ByteWriter all;
    all.text("BAYT");
    if (front) {
      number(all, files.size());
      all.bytes(index.take()).bytes(contents.take());
    } else {
      all.text("----").bytes(contents.take()).bytes(index.take());
      number(all, files.size());
      all.text("TYAB");
    }
    return all.take();
  }

 private:
  void number(ByteWriter& out, std::uint64_t value) const { big ? out.u32be(value) : out.u32(value); }
};

/// What is in a pack when its draft writes one file anew.
std::vector<File> rewritten(const Bytes& bytes, const std::string& draft, std::size_t index,
                            const Bytes& with) {
  OpenContext context;
  ContainerPtr before = opened_by(draft, make_memory_source(bytes), context);
  Changes changes;
  NewEntry entry;
  entry.path = before->entries()[index].path;
  entry.size = with.size();
  entry.content = make_content(make_memory_source(with));
  changes.replaced[index] = entry;
  Writing writing{{}, context.spool, [](const std::string&, const std::string&) {}};
  return files_in(*opened_by(draft, before->rewrite(changes, writing).source(), context));
}

/// The draft reads the pack, and writes a longer file into its midst.
void expect_solved(const Pack& pack, const Stored& stored, const std::string& line) {
  constexpr std::size_t kChanged = 5;
  Bytes bytes = pack.made(stored);
  Studied found = studied(bytes);
  EXPECT_EQ(found.files, pack.files) << found.draft;
  EXPECT_NE(found.draft.find(line), std::string::npos) << found.draft;
  if (!pack.sizes) return;  // what has no size is not written longer
  std::vector<File> wanted = pack.files;
  wanted[kChanged].data = noise(900, 77);
  EXPECT_EQ(rewritten(bytes, found.draft, kChanged, wanted[kChanged].data), wanted);
}

TEST(StudyCounted, PlacesCountBackFromTheEnd) {
  expect_solved(
      {}, [](const Where& at) { return at.end - at.place; }, "  let at = end - back");
}

TEST(StudyCounted, PlacesBelowZeroCountFromTheEnd) {
  Stored below = [](const Where& at) { return at.place - at.end; };
  expect_solved({}, below, "  let at = end + back");
  Pack big;
  big.big = true;
  expect_solved(big, below, "  back i32");
}

TEST(StudyCounted, PlacesCountBackFromTheRecords) {
  Pack pack;
  expect_solved(
      pack, [](const Where& at) { return at.records - at.place; },
      "  let at = end - 8 - tail.count * 24 - back");
}

TEST(StudyCounted, PlacesWithoutSizesCountBack) {
  Pack pack;
  pack.sizes = false;
  expect_solved(
      pack, [](const Where& at) { return at.end - at.place; }, "  let at = end - back");
}

TEST(StudyCounted, PlacesCountFromTheirOwnRecord) {
  Pack pack;
  pack.records = Records::in_front;
  expect_solved(
      pack, [](const Where& at) { return at.place - at.record; }, "  let at = start + away");
  expect_solved(
      pack, [](const Where& at) { return at.place - at.record - 16; }, "  let at = start + 16 + away");
  expect_solved(
      pack, [](const Where& at) { return at.place - at.record - 24; }, "  let at = start + 24 + away");
}

TEST(StudyCounted, PlacesInFrontOfTheirOwnRecordAreBelowZero) {
  expect_solved(
      {}, [](const Where& at) { return at.place - at.record; }, "  away i32");
}

TEST(StudyCounted, RecordsOfVaryingLengthPointToo) {
  std::vector<File> files = exhibits(20);
  std::uint64_t table = 0;
  for (const File& file : files) table += file.name.size() + 9;
  ByteWriter bytes, data;
  bytes.text("BAYV").u16(files.size());
  for (const File& file : files) {
    std::uint64_t record = bytes.size(), place = 6 + table + data.size();
    bytes.text(file.name).u8(0).u32(place - record).u32(file.data.size());
    data.bytes(file.data);
  }
  bytes.bytes(data.take());
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("  let at = start + away"), std::string::npos) << found.draft;
}

}  // namespace
}  // namespace operculum::study

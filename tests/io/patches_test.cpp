#include "io/patches.h"

#include <gtest/gtest.h>

#include "base/error.h"
#include "support/refusal.h"
#include "support/sample_tree.h"

namespace operculum {
namespace {

using namespace test;

Bytes whole(const Patches& patches, std::uint64_t size) {
  SourcePtr source = patches.assembly(size).source();
  return read_up_to(*source, 0, size);
}

TEST(Patches, LeaveEverythingElseAsItIs) {
  Bytes base = noise(5000);
  Patches patches(make_memory_source(base));
  EXPECT_EQ(whole(patches, base.size()), base) << "nothing was put";
  patches.put(10, to_bytes("crab"));
  patches.put(511, to_bytes("xy"));  // across two blocks
  patches.put(4996, to_bytes("tail"));
  Bytes expected = base;
  std::copy_n("crab", 4, expected.begin() + 10);
  std::copy_n("xy", 2, expected.begin() + 511);
  std::copy_n("tail", 4, expected.begin() + 4996);
  EXPECT_EQ(whole(patches, base.size()), expected);
}

TEST(Patches, SmallPiecesGoOverEachOther) {
  Patches patches(make_memory_source(Bytes(1000, '.')));
  patches.put(100, to_bytes("aaaa"));
  patches.put(102, to_bytes("bb"));
  EXPECT_EQ(as_text(patches.read(99, 6)), ".aabb.");
  patches.put(101, to_bytes("c"));
  EXPECT_EQ(as_text(patches.read(99, 6)), ".acbb.");
}

TEST(Patches, PutRunsOfOtherSourcesAndZeros) {
  Bytes other = noise(3000, 9);
  Patches patches(make_memory_source(Bytes(8192, '.')));
  patches.put(1024, make_memory_source(other), 500, 2000);
  patches.put_zeros(4096, 100);
  Bytes all = whole(patches, 8192), expected(8192, '.');
  std::copy_n(other.begin() + 500, 2000, expected.begin() + 1024);
  std::fill_n(expected.begin() + 4096, 100, Byte{0});
  EXPECT_EQ(all, expected);
}

TEST(Patches, GoBehindTheEnd) {
  Patches patches(make_memory_source(to_bytes("shore")));
  patches.put(5, make_memory_source(to_bytes("line")), 0, 4);
  EXPECT_EQ(as_text(whole(patches, 9)), "shoreline");
}

TEST(Patches, RefuseRunsThatLieOverEachOther) {
  Patches patches(make_memory_source(Bytes(4096)));
  patches.put(0, make_memory_source(Bytes(1000, 1)), 0, 1000);
  patches.put(500, make_memory_source(Bytes(1000, 2)), 0, 1000);
  EXPECT_REFUSAL(patches.assembly(4096), Malformed,
                 "two parts that change lie over each other at offset 500");
}

TEST(Patches, CannotReadWhatIsNotThere) {
  Patches patches(make_memory_source(Bytes(100)));
  EXPECT_REFUSAL(patches.read(90, 20), CutShort,
                 "what is to be changed at offset 100: the file ends before it");
}

}  // namespace
}  // namespace operculum

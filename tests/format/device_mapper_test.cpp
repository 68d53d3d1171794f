// Thin volumes and snapshots of the Linux device mapper with metadata that make no sense; the kernel's own
// are in volume_group_test.cpp.
#include <gtest/gtest.h>

#include "base/checksum.h"
#include "base/error.h"
#include "base/numbers.h"
#include "format/volume/dm_snapshot.h"
#include "format/volume/dm_thin.h"
#include "support/byte_writer.h"
#include "support/refusal.h"

namespace operculum {
namespace {

using namespace test;

constexpr std::size_t kThinBlock = 4096;

/// Metadata of two blocks: what leads to the tree, and its one node.
struct ThinMetadata {
  std::uint64_t magic = 27022010, version = 2, sectors = 128, root = 1, number = 1, entries = 1;
  bool is_leaf = true;

  Bytes bytes() const {
    Canvas disk(2 * kThinBlock);
    disk.little(32, magic, 8);
    disk.little(40, version, 4);
    disk.little(320, root, 8);
    disk.little(336, sectors, 4);
    disk.little(kThinBlock + 4, is_leaf ? 2 : 1, 4);
    disk.little(kThinBlock + 8, number, 8);
    disk.little(kThinBlock + 16, entries, 4);
    disk.little(kThinBlock + 20, 4, 4);
    disk.little(kThinBlock + 24, 8, 4);
    disk.little(kThinBlock + 32, 7, 8);
    disk.little(kThinBlock + 32 + 4 * 8, 1, 8);
    Bytes out = disk.take();
    for (auto [at, salt] : {std::pair{std::size_t{0}, 160774u}, {kThinBlock, 121107u}}) {
      std::uint32_t sum = crc32c(~0U, ByteView(out).subspan(at + 4, kThinBlock - 4)) ^ salt;
      store_number(&out[at], 4, sum);
    }
    return out;
  }
};

SourcePtr thin_volume(Bytes metadata, std::uint64_t device = 7) {
  return make_thin_volume({.metadata = make_memory_source(std::move(metadata)),
                           .data = make_memory_source(Bytes(1 << 20)),
                           .device = device,
                           .size = 1 << 20});
}

TEST(ThinVolume, MetadataThatMakeNoSenseAreRefused) {
  EXPECT_EQ(thin_volume(ThinMetadata{}.bytes())->size(), 1u << 20);
  Bytes damaged = ThinMetadata{}.bytes();
  damaged[100] ^= 1;
  EXPECT_REFUSAL(thin_volume(damaged), Malformed,
                 "thin metadata at offset 0: the block does not fit its checksum");
  EXPECT_REFUSAL(thin_volume(ThinMetadata{.magic = 1}.bytes()), Malformed, "the magic is missing");
  EXPECT_REFUSAL(thin_volume(ThinMetadata{.version = 9}.bytes()), Unsupported, "thin metadata of version 9");
  EXPECT_REFUSAL(thin_volume(ThinMetadata{.sectors = 0}.bytes()), Malformed,
                 "blocks of 0 bytes are not possible");
  EXPECT_REFUSAL(
      thin_volume(ThinMetadata{.number = 5}.bytes()), Malformed,
      "block 1 is no node of a tree: expected its number, values of 8 bytes and at most 254 entries, "
      "found 5, 8 and 1 of 4");
  EXPECT_REFUSAL(thin_volume(ThinMetadata{.entries = 5}.bytes()), Malformed, "found 1, 8 and 5 of 4");
  EXPECT_REFUSAL(thin_volume(ThinMetadata{.is_leaf = false}.bytes()), Malformed,
                 "a tree is deeper than 17 levels");
  EXPECT_REFUSAL(thin_volume(ThinMetadata{}.bytes(), 8), Malformed, "there is no volume 8");
}

Bytes snapshot_store(std::uint32_t magic, std::uint32_t valid, std::uint32_t version, std::uint32_t sectors,
                     std::uint64_t chunk = 2) {
  Canvas disk(4 * 4096);
  disk.little(0, magic, 4);
  disk.little(4, valid, 4);
  disk.little(8, version, 4);
  disk.little(12, sectors, 4);
  disk.little(4096, 3, 8);
  disk.little(4096 + 8, chunk, 8);
  for (std::size_t i = 0; i < 4096; ++i) disk.little(2 * 4096 + i, 's', 1);
  return disk.take();
}

TEST(DeviceMapperSnapshot, TakesWhatItHasAndTheRestFromTheOrigin) {
  constexpr std::uint32_t kMark = 0x70416E53;
  SourcePtr origin = make_memory_source(Bytes(8 * 4096, Byte{'o'}));
  auto open = [&](Bytes store) { return make_dm_snapshot(origin, make_memory_source(std::move(store))); };
  SourcePtr snapshot = open(snapshot_store(kMark, 1, 1, 8));
  Bytes read = read_up_to(*snapshot, 0, snapshot->size());
  ASSERT_EQ(read.size(), 8u * 4096);
  for (std::size_t i = 0; i < read.size(); ++i)
    ASSERT_EQ(read[i], i / 4096 == 3 ? Byte{'s'} : Byte{'o'}) << i;
  EXPECT_REFUSAL(open(snapshot_store(1, 1, 1, 8)), Malformed, "snapshot store: the magic is missing");
  EXPECT_REFUSAL(open(snapshot_store(kMark, 0, 1, 8)), Malformed,
                 "its store was too small for what was changed");
  EXPECT_REFUSAL(open(snapshot_store(kMark, 1, 2, 8)), Unsupported, "snapshot stores of version 2");
  EXPECT_REFUSAL(open(snapshot_store(kMark, 1, 1, 3)), Malformed, "chunks of 1536 bytes are not possible");
  EXPECT_REFUSAL(open(snapshot_store(kMark, 1, 1, 8, 9)), Malformed,
                 "snapshot exceptions at offset 4096: chunk 9 is not one of the store's 4");
}

}  // namespace
}  // namespace operculum

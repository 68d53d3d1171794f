// VDI and QED images: small ones written here by their descriptions, and, where it is there, those of an
// emulator's own image maker; encrypted QCOW2 by the same.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "support/byte_writer.h"
#include "support/open.h"
#include "support/refusal.h"
#include "support/sample_tree.h"
#include "support/system_tools.h"

namespace operculum {
namespace {

using namespace test;

constexpr std::uint32_t kBlock = 4096, kAbsent = 0xFFFFFFFF, kZeros = 0xFFFFFFFE;

void put(Bytes& out, std::size_t at, std::uint64_t value, std::size_t width) {
  if (out.size() < at + width) out.resize(at + width);
  for (std::size_t i = 0; i < width; ++i) out[at + i] = static_cast<Byte>(value >> (8 * i));
}

/// A VDI image of those blocks; `id` and `parent` are the first bytes of the ids.
Bytes vdi(const std::vector<std::uint32_t>& map, const std::vector<Bytes>& blocks, unsigned type, Byte id,
          Byte parent) {
  Bytes out;
  put(out, 64, 0xBEDA107F, 4);
  put(out, 68, 0x00010001, 4);
  put(out, 72, 400, 4);
  put(out, 76, type, 4);
  put(out, 340, 512, 4);   // the map
  put(out, 344, 1024, 4);  // the blocks
  put(out, 360, 512, 4);
  put(out, 368, map.size() * kBlock, 8);
  put(out, 376, kBlock, 4);
  put(out, 384, map.size(), 4);
  put(out, 388, blocks.size(), 4);
  put(out, 392, id, 1);
  put(out, 408, id, 1);  // of the last change
  put(out, 424, parent, 1);
  put(out, 440, parent, 1);
  for (std::size_t i = 0; i < map.size(); ++i) put(out, 512 + i * 4, map[i], 4);
  out.resize(1024);
  for (const Bytes& block : blocks) out.insert(out.end(), block.begin(), block.end());
  return out;
}

Bytes block_of(char letter) {
  return Bytes(kBlock, static_cast<Byte>(letter));
}

TEST(Vdi, BlocksInTheOrderOfWriting) {
  Held held = open_bytes(vdi({1, kAbsent, 0, kZeros}, {block_of('b'), block_of('a')}, 1, 7, 0), "deck.vdi");
  ASSERT_EQ(held.format(), "vdi");
  EXPECT_EQ(text_of(*held, 0), std::string(kBlock, 'a') + std::string(kBlock, '\0') +
                                   std::string(kBlock, 'b') + std::string(kBlock, '\0'));
  EXPECT_EQ(fact(*held, "kind"), "dynamic");
}

TEST(Vdi, TheParentIsFoundByItsIdWhateverItIsCalled) {
  Bytes base = vdi({0, 1, 2}, {block_of('a'), block_of('b'), block_of('c')}, 1, 7, 0);
  Bytes other = vdi({0, 1, 2}, {block_of('x'), block_of('y'), block_of('z')}, 1, 9, 0);
  Bytes child = vdi({kAbsent, 0, kZeros}, {block_of('B')}, 4, 8, 7);
  Held held = open_beside("child.vdi", {{"child.vdi", child}, {"anything.bin", base}, {"base.vdi", other}});
  EXPECT_EQ(text_of(*held, 0),
            std::string(kBlock, 'a') + std::string(kBlock, 'B') + std::string(kBlock, '\0'));
  EXPECT_TRUE(has_finding(*held, "its parent image is \"anything.bin\""));
}

TEST(Vdi, AParentThatWasChangedIsFoundAndTold) {
  Bytes base = vdi({0}, {block_of('a')}, 1, 7, 0), child = vdi({kAbsent}, {}, 4, 8, 7);
  put(base, 408, 99, 1);  // it was written to since
  Held held = open_beside("child.vdi", {{"child.vdi", child}, {"base.vdi", base}});
  EXPECT_EQ(text_of(*held, 0), std::string(kBlock, 'a'));
  EXPECT_TRUE(has_finding(*held, "is not in the state that it is based on"));
}

TEST(Vdi, AMissingParentIsNoZeros) {
  Held held = open_beside("child.vdi", {{"child.vdi", vdi({kAbsent, 0}, {block_of('B')}, 4, 8, 7)}});
  EXPECT_TRUE(has_finding(*held, "with id 00000007-"));
  EXPECT_REFUSAL(text_of(*held, 0), Malformed,
                 "this part is kept in the parent image with id 00000007-0000-0000-0000-000000000000, which "
                 "is not beside this one");
  EXPECT_EQ(held->content(0)->source()->hole_at(0), 0u);
}

TEST(Vdi, ParentsThatNameEachOtherEnd) {
  Bytes first = vdi({kAbsent}, {}, 4, 1, 2), second = vdi({kAbsent}, {}, 4, 2, 1);
  Held held = open_beside("first.vdi", {{"first.vdi", first}, {"second.vdi", second}});
  EXPECT_REFUSAL(text_of(*held, 0), Malformed,
                 "this part is kept in the parent image with id 00000001-0000-0000-0000-000000000000, which "
                 "is not beside this one");
}

TEST(Vdi, RefusesAMapThatLeavesTheImage) {
  Held held = open_bytes(vdi({5}, {block_of('a')}, 1, 7, 0), "deck.vdi");
  EXPECT_REFUSAL(
      {
        try {
          text_of(*held, 0);
        } catch (const Malformed& error) {
          EXPECT_STREQ(error.what(), "VDI block map at offset 512: expected a block below 1, found 5");
          throw;
        }
      },
      Malformed, "VDI block map at offset 512: expected a block below 1, found 5");
}

TEST(Vdi, EveryPrefixAndFlippedBits) {
  Bytes image = vdi({0, kAbsent}, {block_of('a')}, 1, 7, 0);
  image.resize(1100);
  EXPECT_GT(read_every_prefix(image, "deck.vdi"), 0u);
  EXPECT_GT(read_with_flips(image, 300, false), 0u);
}

Bytes qed(const std::vector<std::uint64_t>& table, const std::vector<Bytes>& clusters) {
  Bytes out = to_bytes(std::string("QED\0", 4));
  put(out, 4, kBlock, 4);
  put(out, 8, 1, 4);
  put(out, 12, 1, 4);
  put(out, 40, kBlock, 8);
  put(out, 48, table.size() * kBlock, 8);
  put(out, kBlock, 2 * kBlock, 8);  // the first table names the second
  for (std::size_t i = 0; i < table.size(); ++i) put(out, 2 * kBlock + i * 8, table[i], 8);
  out.resize(3 * kBlock);
  for (const Bytes& cluster : clusters) out.insert(out.end(), cluster.begin(), cluster.end());
  return out;
}

TEST(Qed, ClustersZerosAndHoles) {
  Held held = open_bytes(qed({4 * kBlock, 0, 1, 3 * kBlock}, {block_of('b'), block_of('a')}), "deck.qed");
  ASSERT_EQ(held.format(), "qed");
  EXPECT_EQ(text_of(*held, 0),
            std::string(kBlock, 'a') + std::string(2 * kBlock, '\0') + std::string(kBlock, 'b'));
}

TEST(Qed, ATableBehindTheEndIsTold) {
  Held held = open_bytes(qed({std::uint64_t{1} << 40}, {}), "deck.qed");
  EXPECT_REFUSAL(
      text_of(*held, 0), CutShort,
      "the image's block at offset 1099511627776 ends after 0 of 4096 bytes; the file is cut short");
}

struct MakerImage : testing::TestWithParam<std::vector<std::string>> {};

TEST_P(MakerImage, HoldsTheDisk) {
  NEEDS("qemu-img");
  TempFolder folder;
  Bytes disk = noise(300'000, 5);
  disk.resize(1 << 20);
  std::fill(disk.begin() + 70'000, disk.begin() + 200'000, Byte{0});
  folder.write("disk.raw", ByteView(disk));
  std::vector<std::string> arguments = {"convert", "-O"};
  arguments.insert(arguments.end(), GetParam().begin(), GetParam().end());
  arguments.insert(arguments.end(), {"disk.raw", "image"});
  Ran made = tool("qemu-img", arguments, folder.path());
  ASSERT_EQ(made.exit_code, 0) << made.err;
  Held held = open_bytes(to_bytes(folder.read("image")), "image", As::file, [](OpenContext& context) {
    context.keys.add({"ebb", "the test"});
  });
  EXPECT_EQ(text_of(*held, 0), as_text(disk));
}

INSTANTIATE_TEST_SUITE_P(
    Kinds, MakerImage,
    testing::Values(std::vector<std::string>{"vdi"}, std::vector<std::string>{"vdi", "-o", "static=on"},
                    std::vector<std::string>{"qed"},
                    std::vector<std::string>{"qed", "-o", "cluster_size=4096,table_size=2"},
                    std::vector<std::string>{
                        "qcow2", "--object", "secret,id=s0,data=ebb", "-o",
                        "encrypt.format=luks,encrypt.key-secret=s0,encrypt.iter-time=10"},
                    std::vector<std::string>{"qcow2", "--object", "secret,id=s0,data=ebb", "-o",
                                             "encrypt.format=aes,encrypt.key-secret=s0"}));

}  // namespace
}  // namespace operculum

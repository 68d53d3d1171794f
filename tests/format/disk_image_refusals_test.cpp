// Disk images whose structures cannot be so, or ask for what is not written: each is named.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/checksum.h"
#include "base/cursor.h"
#include "base/numbers.h"
#include "support/disk_writer.h"
#include "support/new_container.h"
#include "support/open.h"
#include "support/rewritten.h"
#include "support/sentence.h"

namespace operculum::test {
namespace {

constexpr std::size_t kBlankDisk = 300'000;

std::size_t place_of_text(const Bytes& image, std::string_view text) {
  std::size_t at = as_text(image).find(text);
  EXPECT_NE(at, std::string_view::npos) << text;
  return at;
}

std::string told(const Bytes& image, std::uint64_t at = 0) {
  return sentence([&] {
    Held held = open_bytes(image, "disk.img");
    read_up_to(*held->content(0)->source(), at, 512);
  });
}

Bytes with_number(Bytes image, std::size_t at, std::size_t width, std::uint64_t value,
                  std::endian order = std::endian::little) {
  store_number(image.data() + at, width, value, order);
  return image;
}

TEST(VhdRefusals, BlocksAndTables) {
  Bytes image = make_vhd(Bytes(kBlankDisk));
  std::size_t header = place_of_text(image, "cxsparse");
  EXPECT_EQ(told(with_number(image, header + 32, 4, 3, std::endian::big)),
            "VHD dynamic header: blocks of 3 bytes are not possible");
  Bytes disk(std::size_t{5} << 20);
  image = with_number(make_vhd(disk), header + 28, 4, 1, std::endian::big);
  store_number(&image[header + 36], 4, 0);
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < 1024; ++i) sum += image[header + i];
  store_number(&image[header + 36], 4, ~sum, std::endian::big);
  disk.back() = 1;
  std::string path = open_bytes(image)->entries()[0].path;
  EXPECT_EQ(sentence([&] { Rewritten(image).set(path, as_text(disk)).bytes(); }),
            "VHD: expected the block table to have more than 9 entries, found 1");
  EXPECT_EQ(sentence([] { NewContainer("vhd").add("a", "x").add("b", "y").bytes(); }),
            "Unsupported: a folder as a disk image; name a file that holds the disk");
}

TEST(VhdxRefusals, RegionsAndMetadata) {
  const Bytes image = make_vhdx(Bytes(kBlankDisk));
  Bytes lacking = image;
  constexpr std::size_t kRegions = 192 << 10, kTable = 64 << 10;
  for (std::size_t at : {kRegions, kRegions + kTable}) {
    store_number(lacking.data() + at + 8, 4, 1);
    store_number(lacking.data() + at + 4, 4, 0);
    store_number(lacking.data() + at + 4, 4, ~crc32c(~0U, ByteView(lacking).subspan(at, kTable)));
  }
  EXPECT_EQ(told(lacking), "VHDX: the region table lacks a region");
  std::size_t metadata = place_of_text(image, "metadata");
  constexpr std::size_t kRow = 32;
  Bytes nameless = image;
  nameless[metadata + kRow] ^= 1;
  nameless[metadata + kRow + 24] = 0;  // nor is it required
  EXPECT_TRUE(told(nameless).starts_with("VHDX metadata: the item ")) << told(nameless);
  auto parameters = load_little<std::uint32_t>(image.data() + metadata + kRow + 16);
  EXPECT_TRUE(
      told(with_number(image, metadata + parameters, 4, 3 << 20))
          .starts_with(
              "VHDX metadata: expected blocks of 1 to 256 MiB, a power of two, sectors of 512 or 4096 "
              "bytes and at most 64 TiB, found 3145728, 512 and "));
}

TEST(QedRefusals, WhatTheTablesDoNotReach) {
  constexpr std::uint64_t kCluster = 4096, kEntries = kCluster / 8, kReach = kEntries * kEntries * kCluster;
  Canvas image(3 * kCluster);
  image.text(0, std::string_view("QED\0", 4));
  image.little(4, kCluster, 4);
  image.little(8, 1, 4);
  image.little(12, 1, 4);
  image.little(40, kCluster, 8);
  image.little(48, 2 * kReach, 8);
  Bytes bytes = image.take();
  EXPECT_EQ(told(bytes), "");
  EXPECT_EQ(told(bytes, kReach), fmt::format("QED: offset {} lies beyond what its tables reach", kReach));
}

TEST(VmdkRefusals, KindsOfParts) {
  Files files = {
      {"gauge.vmdk", to_bytes("# Disk DescriptorFile\nversion=1\ncreateType=\"custom\"\n\n# Extent "
                              "description\nRW 8 TIDAL \"gauge-flat.vmdk\" 0\n")},
      {"gauge-flat.vmdk", Bytes(4096)}};
  EXPECT_EQ(sentence([&] { open_beside("gauge.vmdk", files)->content(0)->source(); }),
            "Unsupported: VMDK extents of kind TIDAL");
}

TEST(QcowRefusals, WhatIsNotWritten) {
  Bytes disk(kBlankDisk), image = make_qcow2(disk);
  disk[7] = 1;
  std::string path = open_bytes(image)->entries()[0].path;
  auto rewriting = [&](const Bytes& before) {
    return sentence([&] { Rewritten(before).set(path, as_text(disk)).bytes(); });
  };
  EXPECT_EQ(rewriting(image), "");
  constexpr std::size_t kIncompatible = 72;
  EXPECT_EQ(rewriting(with_number(image, kIncompatible, 8, 1, std::endian::big)),
            "Unsupported: writing a QCOW2 image with feature bits 0x1");
}

}  // namespace
}  // namespace operculum::test

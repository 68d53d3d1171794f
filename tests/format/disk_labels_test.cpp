// Sun, SGI, BSD, Atari and Amiga partition tables, each written here byte by byte from its description.
#include <gtest/gtest.h>

#include "support/byte_writer.h"
#include "support/open.h"

namespace operculum::test {
namespace {

constexpr std::size_t kSector = 512, kDisk = 64 * kSector;

/// Marks the first byte of sector `number`, to tell partitions apart.
void mark(Canvas& disk, std::size_t number, std::string_view text) {
  disk.text(number * kSector, text);
}

void set_sun_sum(Canvas& disk) {
  disk.big(510, 0, 2);
  unsigned sum = 0;
  for (std::size_t at = 0; at < 512; at += 2) sum ^= static_cast<unsigned>(disk[at] << 8 | disk[at + 1]);
  disk.big(510, sum, 2);
}

Canvas sun() {
  Canvas disk(kDisk);
  disk.big(128, 1, 4);
  disk.text(132, "gauge");
  disk.big(142, 2, 2);      // root
  disk.big(142 + 8, 5, 2);  // the whole disk
  disk.big(142 + 12, 0x83, 2);
  disk.big(188, 0x600DDEEE, 4);
  disk.big(436, 2, 2);  // tracks
  disk.big(438, 4, 2);  // sectors: a cylinder has eight
  disk.big(444, 1, 4);
  disk.big(448, 16, 4);
  disk.big(444 + 16, 0, 4);
  disk.big(448 + 16, 64, 4);
  disk.big(444 + 24, 4, 4);
  disk.big(448 + 24, 8, 4);
  disk.big(508, 0xDABE, 2);
  mark(disk, 8, "root");
  mark(disk, 32, "linux");
  set_sun_sum(disk);
  return disk;
}

TEST(SunLabel, ListsPartitionsByCylinders) {
  Held held = open_bytes(sun().take());
  EXPECT_EQ(held.format(), "sun-label");
  EXPECT_EQ(entry_at(*held, "1").extra->type_tag, "root");
  EXPECT_EQ(text_at(*held, "1").substr(0, 4), "root");
  EXPECT_EQ(entry_at(*held, "1").size, 16 * kSector);
  EXPECT_EQ(text_at(*held, "4").substr(0, 5), "linux");
  EXPECT_EQ(paths_of(*held).find("3 "), std::string::npos) << "the whole disk is no partition";
  EXPECT_EQ(held->facts().front().second, "gauge");
}

TEST(SunLabel, AWrongSumIsNoLabel) {
  Canvas disk = sun();
  disk[300] ^= 1;
  EXPECT_NE(open_bytes(disk.take()).format(), "sun-label");
}

Canvas sgi() {
  Canvas disk(kDisk);
  disk.big(0, 0x0BE5A941, 4);
  disk.text(72, "sash");
  disk.big(72 + 8, 2, 4);
  disk.big(72 + 12, 100, 4);
  auto partition = [&](std::size_t i, std::uint32_t count, std::uint32_t first, std::uint32_t type) {
    disk.big(312 + i * 12, count, 4);
    disk.big(316 + i * 12, first, 4);
    disk.big(320 + i * 12, type, 4);
  };
  partition(0, 20, 10, 10);
  partition(8, 8, 0, 0);
  partition(10, 64, 0, 6);
  mark(disk, 10, "XFSB");
  std::uint32_t sum = 0;
  for (std::size_t at = 0; at < 512; at += 4)
    sum += static_cast<std::uint32_t>(disk[at] << 24 | disk[at + 1] << 16 | disk[at + 2] << 8 | disk[at + 3]);
  disk.big(504, 0 - sum, 4);
  return disk;
}

TEST(SgiLabel, ListsPartitionsAndNamesBootFiles) {
  Held held = open_bytes(sgi().take());
  EXPECT_EQ(held.format(), "sgi-label");
  EXPECT_EQ(entry_at(*held, "1").extra->type_tag, "XFS");
  EXPECT_EQ(text_at(*held, "1").substr(0, 4), "XFSB");
  EXPECT_EQ(paths_of(*held).find("11"), std::string::npos) << "the whole volume is no partition";
  EXPECT_EQ(held->facts().front().second, "sash, in the volume header");
}

enum class Order { little, big };

Canvas bsd(std::size_t place, Order order, std::uint32_t base) {
  Canvas disk(kDisk);
  auto set = [&](std::size_t at, std::uint64_t value, std::size_t width) {
    order == Order::little ? disk.little(place + at, value, width) : disk.big(place + at, value, width);
  };
  set(0, 0x82564557, 4);
  disk.text(place + 24, "kiosk");
  set(40, kSector, 4);
  set(132, 0x82564557, 4);
  set(138, 3, 2);
  auto partition = [&](std::size_t i, std::uint32_t size, std::uint32_t offset, std::uint8_t type) {
    set(148 + i * 16, size, 4);
    set(152 + i * 16, offset, 4);
    disk[place + 160 + i * 16] = type;
  };
  partition(0, 20, base + 10, 7);
  partition(1, 10, base + 40, 1);
  partition(2, 64, base, 0);
  unsigned sum = 0;
  for (std::size_t at = 0; at < 148 + 3 * 16; at += 2) {
    unsigned a = disk[place + at], b = disk[place + at + 1];
    sum ^= order == Order::little ? a | b << 8 : a << 8 | b;
  }
  set(136, sum, 2);
  mark(disk, 10, "4.2BSD");
  return disk;
}

TEST(BsdLabel, IsReadInBothOrdersAndPlaces) {
  struct Case {
    std::size_t place;
    Order order;
    std::uint32_t base;
  };
  for (const Case& one :
       {Case{512, Order::little, 0}, Case{64, Order::big, 0}, Case{512, Order::little, 2048}}) {
    Held held = open_bytes(bsd(one.place, one.order, one.base).take());
    EXPECT_EQ(held.format(), "bsd-label");
    EXPECT_EQ(text_at(*held, "a").substr(0, 6), "4.2BSD")
        << "offsets of a slice count from the disk's first sector";
    EXPECT_EQ(entry_at(*held, "b").extra->type_tag, "swap");
    EXPECT_EQ((" " + paths_of(*held) + " ").find(" c "), std::string::npos) << "the whole is no partition";
  }
}

TEST(BsdLabel, SectorsOfNoSizeAreRefusedInASentence) {
  Canvas disk = bsd(512, Order::little, 0);
  disk.little(512 + 40, 0, 4);
  disk.little(512 + 136, 0, 2);
  unsigned sum = 0;
  for (std::size_t at = 512; at < 512 + 148 + 48; at += 2)
    sum ^= static_cast<unsigned>(disk[at] | disk[at + 1] << 8);
  disk.little(512 + 136, sum, 2);
  try {
    open_bytes(disk.take());
    FAIL() << "opened";
  } catch (const Malformed& error) {
    EXPECT_STREQ(error.what(), "BSD disk label: sectors of 0 bytes are not possible");
  }
}

Canvas atari() {
  Canvas disk(kDisk);
  auto row = [&](std::size_t sector, std::size_t i, std::string_view id, std::uint32_t start,
                 std::uint32_t count) {
    std::size_t at = sector * kSector + 0x1C6 + i * 12;
    disk[at] = 1;
    disk.text(at + 1, id);
    disk.big(at + 4, start, 4);
    disk.big(at + 8, count, 4);
  };
  disk.big(0x1C2, 64, 4);
  row(0, 0, "GEM", 2, 10);
  row(0, 1, "XGM", 20, 40);
  row(20, 0, "BGM", 1, 5);
  row(20, 1, "XGM", 10, 30);
  row(30, 0, "LNX", 1, 5);
  mark(disk, 2, "gem");
  mark(disk, 21, "bgm");
  mark(disk, 31, "lnx");
  return disk;
}

TEST(AtariTable, FollowsTheChainOfFurtherPartitions) {
  Held held = open_bytes(atari().take());
  EXPECT_EQ(held.format(), "atari-table");
  EXPECT_EQ(text_at(*held, "1").substr(0, 3), "gem");
  EXPECT_EQ(text_at(*held, "2").substr(0, 3), "bgm");
  EXPECT_EQ(text_at(*held, "3").substr(0, 3), "lnx");
  EXPECT_EQ(entry_at(*held, "3").extra->type_tag, "Linux");
}

TEST(AtariTable, RowsThatMakeNoSenseAreNoTable) {
  Canvas overlapping = atari();
  overlapping.big(0x1C6 + 12 + 4, 5, 4);
  EXPECT_EQ(open_bytes(overlapping.take()).format(), "none");
  Canvas unknown = atari();
  unknown.text(0x1C7, "XYZ");
  EXPECT_EQ(open_bytes(unknown.take()).format(), "none");
  Canvas outside = atari();
  outside.big(0x1C2, 65, 4);
  EXPECT_EQ(open_bytes(outside.take()).format(), "none");
}

TEST(DiskLabels, CutAnywhereEndInAnErrorOrAResult) {
  std::size_t listed = 0;
  for (Canvas disk : {sun(), sgi(), bsd(512, Order::little, 0), atari()}) {
    Bytes whole = disk.take();
    for (std::size_t size = 0; size < 3 * kSector; size += 7) {
      try {
        Held held = open_bytes(Bytes(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(size)));
        if (!held.opened.container) continue;
        for (std::size_t i = 0; i < held->entries().size(); ++i) text_of(*held, i);
        ++listed;
      } catch (const Error&) {
        continue;  // a sentence is as good as a result
      }
    }
  }
  EXPECT_GT(listed, 100u);
}

/// Words of a block that sum up to 0.
void set_amiga_sum(Canvas& disk, std::size_t at) {
  disk.big(at + 4, 64, 4);
  disk.big(at + 8, 0, 4);
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < 64; ++i) {
    std::uint32_t word = 0;
    for (std::size_t b = 0; b < 4; ++b) word = word << 8 | disk[at + i * 4 + b];
    sum += word;
  }
  disk.big(at + 8, -sum, 4);
}

/// A cylinder has eight sectors; the second partition's block stands in front of the first one's.
Canvas amiga() {
  Canvas disk(kDisk);
  constexpr std::size_t kHead = 2 * kSector, kFirst = 4 * kSector, kSecond = 3 * kSector;
  disk.text(kHead, "RDSK");
  disk.big(kHead + 16, kSector, 4);
  disk.big(kHead + 28, 4, 4);
  disk.big(kHead + 64, 8, 4);
  disk.big(kHead + 68, 4, 4);
  disk.big(kHead + 72, 2, 4);
  disk.big(kHead + 132, 7, 4);
  auto part = [&](std::size_t at, std::size_t next, std::string_view name, std::size_t low,
                  std::size_t high) {
    disk.text(at, "PART");
    disk.big(at + 16, next, 4);
    disk.big(at + 36, name.size(), 1);
    disk.text(at + 37, name);
    disk.big(at + 132, kSector / 4, 4);
    disk.big(at + 140, 2, 4);
    disk.big(at + 148, 4, 4);
    disk.big(at + 164, low, 4);
    disk.big(at + 168, high, 4);
    disk.text(at + 192, "DOS\x01");
    set_amiga_sum(disk, at);
  };
  part(kFirst, 3, "DH0", 1, 3);
  part(kSecond, 0xFFFFFFFF, "work", 4, 7);
  set_amiga_sum(disk, kHead);
  mark(disk, 8, "boot");
  mark(disk, 32, "work");
  return disk;
}

TEST(AmigaTable, ListsPartitionsByCylinders) {
  Held held = open_bytes(amiga().take());
  ASSERT_EQ(held.format(), "amiga-table");
  EXPECT_EQ(entry_at(*held, "1").extra->type_tag, "DOS\\1");
  EXPECT_EQ(text_at(*held, "1").substr(0, 4), "boot");
  EXPECT_EQ(entry_at(*held, "1").size, 24 * kSector);
  EXPECT_EQ(text_at(*held, "2").substr(0, 4), "work");
  EXPECT_EQ(entry_at(*held, "2").size, 32 * kSector);
}

TEST(AmigaTable, WrongSumsAndCircles) {
  Canvas disk = amiga();
  disk[2 * kSector + 100] ^= 1;
  EXPECT_EQ(open_bytes(disk.take()).format(), "none");
  disk = amiga();
  disk[3 * kSector + 100] ^= 1;
  Held lost = open_bytes(disk.take());
  EXPECT_TRUE(has_finding(*lost, "there is no partition block at offset 1536"));
  EXPECT_EQ(text_at(*lost, "1").substr(0, 4), "boot");
  disk = amiga();
  disk.big(3 * kSector + 16, 4, 4);
  set_amiga_sum(disk, 3 * kSector);
  EXPECT_TRUE(has_finding(*open_bytes(disk.take()), "the chain of partitions leads in a circle"));
}

}  // namespace
}  // namespace operculum::test

// What is not written: file systems, discs and archives that ask for more than their writers give. Each is
// named, and nothing is made.
#include <gtest/gtest.h>

#include <cstring>

#include "base/numbers.h"
#include "support/ext_writer.h"
#include "support/fat_writer.h"
#include "support/iso_writer.h"
#include "support/new_container.h"
#include "support/refusal.h"
#include "support/rewritten.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

NewEntry link_entry(const std::string& path, const std::string& target) {
  NewEntry entry;
  entry.path = path;
  entry.kind = EntryKind::hard_link;
  entry.link_target = target;
  return entry;
}

TEST(TreeRefusals, PathsAndLinksThatNoFileSystemHas) {
  auto made = [](const NewContainer& wanted) { return wanted.bytes().size(); };
  EXPECT_REFUSAL(made(NewContainer("squashfs").add(link_entry("a", "lost"))), Unsupported,
                 "a hard link to \"lost\", which is no file here");
  EXPECT_REFUSAL(made(NewContainer("squashfs").add("pool/../x", "x")), Unsupported,
                 "the path \"pool/../x\" in a file system");
  EXPECT_REFUSAL(made(NewContainer("squashfs").add("a", "x").add("a/b", "y")), Unsupported,
                 "\"a/b\", which lies in something that is no folder");
  EXPECT_REFUSAL(made(NewContainer("squashfs").add("a", "x").add("a", "y")), Unsupported,
                 "two entries \"a\"");
}

constexpr std::size_t kExtSuper = 1024, kExtInodes = 4 * 4096, kExtInode = 256;

TEST(ExtRefusals, WhatIsKeptInASpecialWay) {
  const Bytes image = make_ext(sample_tree(), 4 << 20);
  auto set = [](const Bytes& before) { return Rewritten(before).set("crab.txt", "snip").bytes().size(); };
  EXPECT_EQ(set(image), image.size());
  Bytes unclean = image, clusters = image, sealed = image;
  unclean[kExtSuper + 96] |= 4;  // INCOMPAT_RECOVER
  EXPECT_REFUSAL(set(unclean), Unsupported,
                 "writing an ext file system that was not unmounted: its journal would undo it");
  clusters[kExtSuper + 101] |= 2;  // RO_COMPAT_BIGALLOC
  std::memcpy(&clusters[kExtSuper + 28], &clusters[kExtSuper + 24], 4);
  EXPECT_REFUSAL(set(clusters), Unsupported, "writing an ext file system with clusters of blocks (bigalloc)");
  constexpr std::size_t kFirstOwn = 11, kSome = 90;
  for (std::size_t i = kFirstOwn; i < kSome; ++i)
    sealed[kExtInodes + (i - 1) * kExtInode + 32 + 2] |= 0x10;  // VERITY_FL
  EXPECT_REFUSAL(set(sealed), Unsupported,
                 "another content of \"crab.txt\", which the file system keeps in a special way");
}

TEST(ExtRefusals, ABlockThatIsInUseAndMarkedAsFree) {
  Bytes image = make_ext(sample_tree(), 4 << 20);
  constexpr std::size_t kBlock = 4096;
  auto bitmap = static_cast<std::size_t>(load_number(&image[kBlock], 4, std::endian::little));
  std::fill_n(image.begin() + static_cast<std::ptrdiff_t>(bitmap * kBlock), kBlock, Byte{0});
  EXPECT_REFUSAL(Rewritten(image).set("gauge/table.csv", "short").bytes(), Malformed,
                 "is in use and marked as free: the file system is damaged");
}

TEST(FatRefusals, AChainThatHasNoEnd) {
  Bytes image = make_fat({{.path = "crab.txt", .data = to_bytes("red crab")}}, 16);
  auto number = [&](std::size_t at) {
    return static_cast<std::size_t>(load_number(&image[at], 2, std::endian::little));
  };
  constexpr std::size_t kLast = 0xFFFF, kSome = 100;
  std::size_t table = number(14) * number(11), first = 0;
  for (std::size_t cluster = 2; cluster < kSome && first == 0; ++cluster)
    if (number(table + 2 * cluster) == kLast) first = cluster;
  ASSERT_NE(first, 0u);
  store_number(&image[table + 2 * first], 2, first);
  EXPECT_REFUSAL(Rewritten(image).remove("crab.txt").bytes(), Malformed,
                 "the chain of cluster " + std::to_string(first) + " has a loop");
}

TEST(FatRefusals, TheRootFolderOfOldVolumesHasAnEnd) {
  Rewritten made(make_fat(sample_tree(), 16));
  for (int i = 0; i < 600; ++i) made.add("T" + std::to_string(i), "x");
  EXPECT_REFUSAL(made.bytes(), Unsupported, "rows in the root folder of this FAT volume");
}

TEST(IsoRefusals, NamesAndLinksThatARecordHasNoRoomFor) {
  NewEntry link;
  link.path = "far";
  link.kind = EntryKind::symbolic_link;
  for (int i = 0; i < 300; ++i) link.link_target += "pool/tide/";
  link.link_target += "x";
  EXPECT_REFUSAL(NewContainer("iso9660").add("a", "x").add(link).bytes(), Unsupported,
                 "so much about \"far\" on an ISO 9660 disc");
}

TEST(IsoRefusals, DiscsWithOtherTrees) {
  const Bytes image = make_iso(sample_tree(), {});
  auto added = [](const Bytes& before) { return Rewritten(before).add("x.txt", "x").bytes().size(); };
  Bytes hybrid = image;
  std::memcpy(&hybrid[1024], "BD", 2);
  EXPECT_REFUSAL(added(hybrid), Unsupported, "writing a disc that has an HFS tree, too");
  Bytes bridge = image;
  std::size_t free = 0;
  for (std::size_t sector = 16; sector < 64 && free == 0; ++sector) {
    ByteView all = ByteView(bridge).subspan(sector * 2048, 2048);
    if (std::all_of(all.begin(), all.end(), [](Byte b) { return b == 0; })) free = sector;
  }
  ASSERT_NE(free, 0u);
  std::memcpy(&bridge[free * 2048], "\0NSR02\1", 7);
  EXPECT_REFUSAL(added(bridge), Unsupported, "writing a disc that has a UDF tree, too");
  Rewritten wide(make_iso(sample_tree(), {.rock_ridge = false}));
  EXPECT_REFUSAL(wide.add("what?.txt", "x").bytes(), Unsupported, "the name \"what?.txt\" in a Joliet tree");
}

/// Where the records of a folder lie, and the first that leads to another folder.
std::size_t first_folder_record(const Bytes& image, std::size_t extent) {
  std::size_t at = extent * 2048;
  for (int own = 0; own < 2; ++own) at += image[at];
  while (image[at] != 0 && (image[at + 25] & 2) == 0) at += image[at];
  return at;
}

TEST(IsoRefusals, FoldersThatLeadBackAndFoldersWithoutRecords) {
  const Bytes image = make_iso(sample_tree(), {.joliet = false});
  constexpr std::size_t kRootRecord = 16 * 2048 + 156;
  auto extent_at = [](const Bytes& bytes, std::size_t record) {
    return static_cast<std::size_t>(load_number(&bytes[record + 2], 4, std::endian::little));
  };
  std::size_t root = extent_at(image, kRootRecord), record = first_folder_record(image, root);
  ASSERT_NE(image[record], 0);
  Bytes circle = image, empty = image;
  store_number(&circle[record + 2], 4, root);
  EXPECT_REFUSAL(Rewritten(circle).add("x.txt", "x").bytes(), Malformed, "ISO 9660: a folder is met twice");
  empty[extent_at(image, record) * 2048] = 0;
  EXPECT_REFUSAL(Rewritten(empty).add("x.txt", "x").bytes(), Malformed,
                 "ISO 9660: a folder without its own records");
}

/// A second row of the directory for the first entry, under the same name.
Bytes with_shared_data(Bytes image) {
  std::string_view all = as_text(image);
  std::size_t directory = all.find("PK\1\2"), end = all.find("PK\5\6");
  Bytes row(image.begin() + static_cast<std::ptrdiff_t>(directory),
            image.begin() + static_cast<std::ptrdiff_t>(end));
  image.insert(image.begin() + static_cast<std::ptrdiff_t>(end), row.begin(), row.end());
  end += row.size();
  store_number(&image[end + 8], 2, 2);
  store_number(&image[end + 10], 2, 2);
  store_number(&image[end + 12], 4, 2 * row.size());
  return image;
}

TEST(ZipRefusals, SharedDataAndHiddenHeaders) {
  const Bytes image = ZipBuilder().add("crab.txt", "red crab").build();
  EXPECT_REFUSAL(Rewritten(with_shared_data(image)).set("crab.txt", "blue").bytes(), Unsupported,
                 "changing crab.txt, whose data another entry of the archive shares");
  Bytes hidden = image;
  constexpr std::size_t kFlagsAt = 6;
  hidden[kFlagsAt + 1] |= 0x20;  // bit 13: values of the local header are masked
  EXPECT_REFUSAL(Rewritten(hidden).set("crab.txt", "blue").bytes(), Unsupported,
                 "changing entries of a ZIP archive whose headers are encrypted");
}

TEST(ZipRefusals, AnAesFieldWithoutEncryption) {
  Bytes image =
      ZipBuilder()
          .add({.name = "crab.txt", .data = to_bytes("red crab"), .password = "limpet", .aes_strength = 3})
          .build();
  std::size_t directory = as_text(image).find("PK\1\2");
  image[directory + 8] &= 0xFE;  // the directory says that it is not encrypted, and is believed
  EXPECT_REFUSAL(Rewritten(image).set("crab.txt", "blue").bytes(), Unsupported,
                 "replacing crab.txt, which has a field of AES encryption but is not encrypted");
}

}  // namespace
}  // namespace operculum::test

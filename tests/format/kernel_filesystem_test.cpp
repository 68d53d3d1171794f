// File systems that the Linux kernel wrote, and those that their own makers' programs fill: none knows of
// this program.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <filesystem>

#include "io/file_source.h"
#include "support/kernel_images.h"
#include "support/system_tools.h"

namespace operculum {
namespace {

using namespace test;

struct Written {
  const char *set, *format;
  std::size_t longest;  ///< name, in bytes
  bool links;
  const char *fact, *value;
};

std::string base_of(const std::string& set) {
  return set + ".img";
}

struct KernelFileSystem : testing::TestWithParam<Written> {
  KernelImages images{GetParam().set};
  Held held = images.open(base_of(GetParam().set));
};

TEST_P(KernelFileSystem, HoldsTheTree) {
  const Written& one = GetParam();
  ASSERT_EQ(held.format(), one.format);
  SampleTree tree = kernel_tree(one.longest, one.links);
  if (held.format() == "nilfs2") {
    tree.push_back({.path = ".nilfs"});  // of the cleaner
    tree.push_back({.path = "tide", .data = to_bytes("high\n")});
  }
  if (held.format() == "affs") {  // it has links, but no devices
    tree.push_back({.path = "latest", .kind = EntryKind::symbolic_link, .target = "gauge/logs"});
    tree.push_back({.path = "again.txt", .data = to_bytes("pinch\n")});
  }
  EXPECT_EQ(compare_tree(held, tree), "");
  EXPECT_EQ(fact(*held, one.fact), one.value);
  for (const Finding& finding : held->findings())
    EXPECT_EQ(finding.level, Finding::Level::note) << finding.text;
}

TEST_P(KernelFileSystem, TellsModesOwnersAndTimes) {
  const Written& one = GetParam();
  const Entry& run = entry_at(*held, "gauge/run");
  EXPECT_EQ(run.modified.seconds, 1772373908);
  if (!one.links) return;
  EXPECT_EQ(run.mode, 0755u);
  EXPECT_EQ(run.extra->user_id, 1000u);
  EXPECT_EQ(run.extra->group_id, 100u);
  const Entry& port = entry_at(*held, "gauge/port");
  EXPECT_EQ(port.extra->device_major, 4u);
  EXPECT_EQ(port.extra->device_minor, 66u);
}

TEST_P(KernelFileSystem, KnowsTwoNamesOfOneFile) {
  if (!GetParam().links) return;
  const Entry &first = entry_at(*held, "again.txt"), &second = entry_at(*held, "crab.txt");
  EXPECT_NE(first.kind == EntryKind::hard_link, second.kind == EntryKind::hard_link);
}

TEST_P(KernelFileSystem, FindsOneFileWithoutListingTheRest) {
  Lookup found = held->find("gauge/table.csv");
  ASSERT_EQ(found.kind, Lookup::Kind::entry);
  EXPECT_EQ(found.open()->source()->size(), found.entry->size);
}

TEST_P(KernelFileSystem, CutShortCostsOnlyWhatIsMissing) {
  std::string path = images.path(base_of(GetParam().set));
  std::uintmax_t size = std::filesystem::file_size(path);
  std::filesystem::resize_file(path, size / 4 * 3);
  Held cut = images.open(base_of(GetParam().set));
  EXPECT_TRUE(has_finding(*cut, "cut short"));
  cut->entries();
}

INSTANTIATE_TEST_SUITE_P(Sets, KernelFileSystem,
                         testing::Values(Written{"minix1", "minix", 30, true, "version", "1"},
                                         Written{"minix1s", "minix", 14, true, "names", "up to 14 bytes"},
                                         Written{"minix2", "minix", 30, true, "version", "2"},
                                         Written{"minix3", "minix", 60, true, "version", "3"},
                                         Written{"nilfs", "nilfs2", 255, true, "label", "gauge"},
                                         Written{"jfs", "jfs", 255, true, "label", "gauge"},
                                         Written{"reiser", "reiserfs", 255, true, "label", "gauge"},
                                         Written{"f2fs", "f2fs", 255, true, "label", "gauge"},
                                         Written{"hfs", "hfs", 31, false, "label", "gauge"},
                                         Written{"affs-ofs", "affs", 30, false, "version", "OFS"},
                                         Written{"affs-ffs", "affs", 30, false, "version",
                                                 "FFS, international"},
                                         Written{"affs-large", "affs", 30, false, "block", "1024 bytes"},
                                         Written{"sysv4", "sysv", 14, true, "version", "System V release 4"},
                                         Written{"sysv2", "sysv", 14, true, "byte order", "big-endian"},
                                         Written{"hpfs", "hpfs", 200, false, "label", "gauge"}),
                         [](const auto& one) {
                           std::string name = one.param.set;
                           std::erase(name, '-');
                           return name;
                         });

/// What tests/fixtures/kernel/old_volumes.py writes for those that the kernel only reads; it read them.
SampleTree old_tree() {
  std::string table;
  for (int i = 0; i < 3000; ++i) table += fmt::format("2026-03-{:02} {} cm\n", i % 31 + 1, i * 37 % 520);
  SampleTree out = {{.path = "gauge", .kind = EntryKind::folder},
                    {.path = "gauge/logs", .kind = EntryKind::folder},
                    {.path = "many", .kind = EntryKind::folder},
                    {.path = "crab.txt", .data = to_bytes("pinch\n")},
                    {.path = "nothing.bin"},
                    {.path = "gauge/table.csv", .data = to_bytes(table)},
                    {.path = "gauge/logs/high water at the northern mole.txt", .data = to_bytes("4.97 m\n")}};
  for (int i = 0; i < 60; ++i)
    out.push_back({.path = fmt::format("many/reading {:03}", i), .data = to_bytes(fmt::format("{}\n", i))});
  return out;
}

struct OldFileSystem : testing::TestWithParam<Written> {
  KernelImages images{GetParam().set};
};

TEST_P(OldFileSystem, HoldsTheTree) {
  Held held = images.open(base_of(GetParam().set));
  ASSERT_EQ(held.format(), GetParam().format);
  SampleTree tree = old_tree();
  if (held.format() == "qnx4") tree.push_back({.path = ".bitmap", .data = Bytes(512)});
  EXPECT_EQ(compare_tree(held, tree), "");
  EXPECT_EQ(fact(*held, GetParam().fact), GetParam().value);
  for (const Finding& finding : held->findings())
    EXPECT_EQ(finding.level, Finding::Level::note) << finding.text;
  EXPECT_EQ(entry_at(*held, "crab.txt").modified.seconds, 1772373908);
}

TEST_P(OldFileSystem, CutShortCostsOnlyWhatIsMissing) {
  std::string path = images.path(base_of(GetParam().set));
  std::filesystem::resize_file(path, std::filesystem::file_size(path) / 4 * 3);
  Held held = images.open(base_of(GetParam().set));
  EXPECT_EQ(text_at(*held, "crab.txt"), "pinch\n");
}

INSTANTIATE_TEST_SUITE_P(Sets, OldFileSystem,
                         testing::Values(Written{"qnx4", "qnx4", 48, false, "block", "512 bytes"},
                                         Written{"qnx6", "qnx6", 510, false, "byte order", "little-endian"},
                                         Written{"qnx6-big", "qnx6", 510, false, "byte order", "big-endian"},
                                         Written{"befs", "befs", 255, false, "byte order", "little-endian"},
                                         Written{"befs-big", "befs", 255, false, "byte order", "big-endian"}),
                         [](const auto& one) {
                           std::string name = one.param.set;
                           std::erase(name, '-');
                           return name;
                         });

TEST(KernelFileSystems, Xenix) {
  KernelImages images("xenix");
  Held held = images.open("xenix.img");
  ASSERT_EQ(held.format(), "sysv");
  EXPECT_EQ(fact(*held, "version"), "Xenix");
  EXPECT_EQ(text_at(*held, "crab.txt"), "pinch\n");
  EXPECT_EQ(text_at(*held, "gauge/table.csv").size(), 8893u);
}

TEST(KernelFileSystems, SuperblocksOfQnx6ThatDoNotFitTheirSums) {
  KernelImages images("qnx6");
  std::string raw = images.folder().read("qnx6.img");
  raw[0x2000 + 100] ^= 1;
  images.folder().write("qnx6.img", raw);
  EXPECT_EQ(images.open("qnx6.img").format(), "none");
  raw[0x2000 + 100] ^= 1;
  raw[raw.size() - 0x1000 + 100] ^= 1;
  images.folder().write("qnx6.img", raw);
  Held held = images.open("qnx6.img");
  EXPECT_TRUE(has_finding(*held, "QNX 6 superblock at offset 1036288: it does not fit its checksum"));
  EXPECT_EQ(text_at(*held, "crab.txt"), "pinch\n");
}

TEST(KernelFileSystems, AmigaHeadersThatDoNotFitTheirSums) {
  KernelImages images("affs-ofs");
  std::string raw = images.folder().read("affs-ofs.img");
  std::string run = text_at(*images.open("affs-ofs.img"), "gauge/run");
  std::size_t name = raw.find(
      "\x08"
      "crab.txt");
  ASSERT_NE(name, std::string::npos);
  raw[name + 1] ^= 1;
  images.folder().write("affs-ofs.img", raw);
  Held held = images.open("affs-ofs.img");
  held->entries();
  EXPECT_TRUE(has_finding(*held, "does not fit its checksum"));
  EXPECT_EQ(text_at(*held, "gauge/run"), run);
}

TEST(KernelFileSystems, BootFilesOfBfs) {
  KernelImages images("bfs");
  Held held = images.open("bfs.img");
  ASSERT_EQ(held.format(), "bfs");
  EXPECT_EQ(text_at(*held, "crab.txt"), "pinch\n");
  EXPECT_EQ(text_at(*held, "nothing.bin"), "");
  EXPECT_EQ(held->entries().size(), 2u);
}

TEST(KernelFileSystems, NilfsShowsItsCheckpoints) {
  KernelImages images("nilfs");
  Held now = images.open("nilfs.img");
  EXPECT_EQ(text_at(*now, "tide"), "high\n");
  Held all = images.open("nilfs.img", [](OpenContext& context) { context.view = "checkpoints"; });
  std::size_t low = 0, high = 0;
  for (const Entry& entry : all->entries()) {
    if (!entry.path.ends_with("/tide")) continue;
    std::string text = text_at(*all, entry.path);
    low += text == "low\n" ? 1 : 0;
    high += text == "high\n" ? 1 : 0;
  }
  EXPECT_GE(low, 1u);
  EXPECT_GE(high, 1u);
}

TEST(KernelFileSystems, F2fsHasExtendedAttributes) {
  KernelImages images("f2fs");
  Held held = images.open("f2fs.img");
  const Entry& crab = entry_at(*held, "crab.txt");
  ASSERT_EQ(crab.extra->attributes.size(), 1u);
  EXPECT_EQ(crab.extra->attributes[0], std::make_pair(std::string("user.origin"), std::string("mole")));
  EXPECT_TRUE(crab.extra->created.known());
}

TEST(KernelFileSystems, DamageIsTold) {
  KernelImages images("f2fs");
  std::string path = images.path("f2fs.img");
  Bytes first = read_up_to(*open_file(path), 0, 12288);
  std::fill(first.begin() + 1024, first.begin() + 4096, Byte{0});
  images.folder().write("head", ByteView(first));
  ASSERT_EQ(tool("dd", {"if=head", "of=f2fs.img", "conv=notrunc"}, images.path()).exit_code, 0);
  Held held = images.open("f2fs.img");
  EXPECT_TRUE(has_finding(*held, "its copy was used"));
  EXPECT_EQ(text_at(*held, "crab.txt"), "pinch\n");
}

/// UFS, by the program that makes it for cross builds of its systems.
struct UfsMade : testing::TestWithParam<std::pair<const char*, const char*>> {};

TEST_P(UfsMade, HoldsTheTree) {
  NEEDS("makefs");
  TempFolder folder;
  SampleTree tree = sample_tree_with_links();
  tree.push_back({.path = "large.bin", .data = noise(2'500'000, 3)});
  write_tree(folder, "tree", tree);
  auto [order, version] = GetParam();
  Ran made =
      tool("makefs",
           {"-t", "ffs", "-B", order, "-o", std::string("version=") + version, "-s", "12m", "image", "tree"},
           folder.path());
  ASSERT_EQ(made.exit_code, 0) << made.err;
  Held held = open_path(folder.path("image"));
  ASSERT_EQ(held.format(), "ufs");
  EXPECT_EQ(compare_tree(held, tree), "");
  EXPECT_EQ(fact(*held, "version"), fmt::format("UFS{}", version));
  EXPECT_EQ(fact(*held, "byte order"), order == std::string("be") ? "big-endian" : "little-endian");
  EXPECT_EQ(entry_at(*held, "gauge/run").mode, 0755u);
}

INSTANTIATE_TEST_SUITE_P(Kinds, UfsMade,
                         testing::Values(std::make_pair("le", "1"), std::make_pair("be", "1"),
                                         std::make_pair("le", "2"), std::make_pair("be", "2")));

TEST(F2fsMade, HoldsTheTree) {
  NEEDS("sload.f2fs");
  TempFolder folder;
  SampleTree tree = sample_tree_with_links();
  tree.push_back({.path = "large.bin", .data = noise(9'000'000, 3)});
  write_tree(folder, "tree", tree);
  ASSERT_EQ(tool("truncate", {"-s", "128M", "image"}, folder.path()).exit_code, 0);
  ASSERT_EQ(tool("mkfs.f2fs", {"-q", "image"}, folder.path()).exit_code, 0);
  Ran loaded = tool("sload.f2fs", {"-f", "tree", "image"}, folder.path());
  ASSERT_EQ(loaded.exit_code, 0) << loaded.out << loaded.err;
  Held held = open_path(folder.path("image"));
  ASSERT_EQ(held.format(), "f2fs");
  EXPECT_EQ(compare_tree(held, tree), "");
}

}  // namespace
}  // namespace operculum

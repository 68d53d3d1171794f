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
                                         Written{"hfs", "hfs", 31, false, "label", "gauge"}),
                         [](const auto& one) { return std::string(one.param.set); });

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

// btrfs: images that its own mkfs fills from a folder, and images that the kernel wrote with compression,
// subvolumes, snapshots and shared extents. Both know nothing of this program.
#include <fcntl.h>
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <filesystem>

#include "base/text.h"
#include "io/file_source.h"
#include "support/kernel_mount.h"
#include "support/system_tools.h"

namespace operculum {
namespace {

using namespace test;

void make_room(const std::string& path, off_t size) {
  int file = open(path.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
  ASSERT_GE(file, 0);
  ASSERT_EQ(ftruncate(file, size), 0);
  close(file);
}

SampleTree tree_for_tools() {
  SampleTree tree = sample_tree_with_links();
  tree.push_back({.path = "large.bin", .data = noise(2'500'000, 3)});
  std::string text;
  for (int i = 0; i < 40'000; ++i) text += "low water at " + std::to_string(i * 373 % 1440) + "\n";
  tree.push_back({.path = "tides.txt", .data = to_bytes(text)});
  tree.push_back({.path = "short.txt", .data = to_bytes(text.substr(0, 1500))});
  return tree;
}

struct MadeBy {
  const char* name;
  std::vector<std::string> options;
};

struct BtrfsMade : testing::TestWithParam<MadeBy> {};

TEST_P(BtrfsMade, HoldsTheTree) {
  NEEDS("mkfs.btrfs");
  TempFolder folder;
  SampleTree tree = tree_for_tools();
  write_tree(folder, "tree", tree);
  setxattr(folder.path("tree/crab.txt").c_str(), "user.exhibit", "seven", 5, 0);
  make_room(folder.path("image"), off_t{256} << 20);
  std::vector<std::string> arguments = {"-q", "-L", "gauge", "--rootdir", "tree"};
  arguments.insert(arguments.end(), GetParam().options.begin(), GetParam().options.end());
  arguments.push_back("image");
  Ran made = tool("mkfs.btrfs", arguments, folder.path());
  if (made.exit_code != 0) GTEST_SKIP() << "this mkfs.btrfs lacks " << GetParam().name << ": " << made.err;
  Held held = open_path(folder.path("image"));
  ASSERT_EQ(held.format(), "btrfs");
  EXPECT_EQ(compare_tree(held, tree), "");
  EXPECT_EQ(fact(*held, "label"), "gauge");
  EXPECT_EQ(entry_at(*held, "gauge/run").mode, 0755u);
  const auto& attributes = entry_at(*held, "crab.txt").extra->attributes;
  bool right =
      attributes.empty() || attributes[0] == std::pair(std::string("user.exhibit"), std::string("seven"));
  EXPECT_TRUE(right);
}

INSTANTIATE_TEST_SUITE_P(
    Sets, BtrfsMade,
    testing::Values(MadeBy{"defaults", {}}, MadeBy{"single", {"-m", "single", "-d", "single"}},
                    MadeBy{"dup", {"-m", "dup", "-d", "dup"}}, MadeBy{"mixed", {"--mixed", "-n", "4096"}},
                    MadeBy{"large_nodes", {"-n", "65536"}}, MadeBy{"sha256", {"--csum", "sha256"}},
                    MadeBy{"xxhash", {"--csum", "xxhash"}}, MadeBy{"blake2", {"--csum", "blake2"}},
                    MadeBy{"without_holes", {"-O", "^no-holes"}}),
    [](const auto& one) { return one.param.name; });

struct BtrfsWritten : testing::TestWithParam<std::string> {};

TEST_P(BtrfsWritten, HoldsWhatTheKernelWrote) {
  NEEDS("mkfs.btrfs");
  if (geteuid() != 0) GTEST_SKIP() << "only root may mount";
  TempFolder folder;
  SampleTree tree = tree_for_tools();
  write_tree(folder, "tree", tree);
  make_room(folder.path("image"), off_t{256} << 20);
  ASSERT_EQ(tool("mkfs.btrfs", {"-q", "image"}, folder.path()).exit_code, 0);
  SampleTree all = tree;
  {
    KernelMount mounted(folder, "image", {"-t", "btrfs", "-o", "loop,compress-force=" + GetParam()});
    if (!mounted.works()) GTEST_SKIP() << "this kernel does not mount it: " << mounted.why();
    ASSERT_EQ(tool("cp", {"-a", folder.path("tree") + "/.", mounted.path()}, folder.path()).exit_code, 0);
    ASSERT_EQ(tool("btrfs", {"subvolume", "create", "shelf"}, mounted.path()).exit_code, 0);
    ASSERT_EQ(tool("cp", {"--reflink=always", "tides.txt", "shelf/copy.txt"}, mounted.path()).exit_code, 0);
    ASSERT_EQ(
        tool("btrfs", {"subvolume", "snapshot", "-r", "shelf", "shelf-march"}, mounted.path()).exit_code, 0);
    // What changes now does not change in the snapshot; a part of a packed extent is written over.
    int file = open((mounted.path() + "/shelf/copy.txt").c_str(), O_WRONLY | O_CLOEXEC);
    ASSERT_EQ(pwrite(file, "high water", 10, 70'000), 10);
    ASSERT_EQ(ftruncate(file, 500'000), 0);
    ASSERT_EQ(fallocate(file, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, 8192, 16384), 0);
    close(file);
  }
  Bytes tides = tree[tree.size() - 2].data, changed = tides;
  std::copy_n("high water", 10, changed.begin() + 70'000);
  changed.resize(500'000);
  std::fill_n(changed.begin() + 8192, 16384, Byte{0});
  all.push_back({.path = "shelf", .kind = EntryKind::folder});
  all.push_back({.path = "shelf-march", .kind = EntryKind::folder});
  all.push_back({.path = "shelf/copy.txt", .data = changed});
  all.push_back({.path = "shelf-march/copy.txt", .data = tides});
  Held held = open_path(folder.path("image"));
  EXPECT_EQ(compare_tree(held, all), "");
  EXPECT_TRUE(held->findings().empty()) << held->findings().front().text;
}

INSTANTIATE_TEST_SUITE_P(Codecs, BtrfsWritten, testing::Values("zlib", "lzo", "zstd"),
                         [](const auto& one) { return one.param; });

TEST(Btrfs, DamageOfANodeIsToldAndCostsWhatIsInIt) {
  NEEDS("mkfs.btrfs");
  TempFolder folder;
  write_tree(folder, "tree", tree_for_tools());
  make_room(folder.path("image"), off_t{256} << 20);
  ASSERT_EQ(tool("mkfs.btrfs", {"-q", "-m", "single", "--rootdir", "tree", "image"}, folder.path()).exit_code,
            0);
  SourcePtr image = open_file(folder.path("image"));
  Bytes front = read_up_to(*image, 0, 64 << 20);
  // The first node that holds names.
  std::string wanted = "short.txt";
  auto place = std::search(front.begin() + (1 << 20), front.end(), wanted.begin(), wanted.end());
  ASSERT_NE(place, front.end());
  int file = open(folder.path("image").c_str(), O_WRONLY | O_CLOEXEC);
  ASSERT_EQ(pwrite(file, "S", 1, place - front.begin()), 1);
  close(file);
  Held held = open_path(folder.path("image"));
  held->entries();
  EXPECT_TRUE(has_finding(*held, "does not fit its checksum"));
}

}  // namespace
}  // namespace operculum

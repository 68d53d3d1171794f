// btrfs: images that its own mkfs fills from a folder, and images that the kernel wrote with compression,
// subvolumes, snapshots and shared extents. Both know nothing of this program.
#include <fcntl.h>
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <filesystem>

#include "base/text.h"
#include "container/locator.h"
#include "container/parts.h"
#include "io/file_source.h"
#include "support/kernel_images.h"
#include "support/kernel_mount.h"
#include "support/refusal.h"
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

/// A file system over several devices, each an image of its own.
struct Pool {
  const char* profile;
  std::size_t devices;
  unsigned spare;  ///< devices that may be missing
};

struct BtrfsPool : testing::TestWithParam<Pool> {
  TempFolder folder;
  SampleTree tree = tree_for_tools();

  static std::string image(std::size_t number) { return fmt::format("shelf-{}", number); }

  Held open_device(std::size_t number) const {
    Held held;
    held.context = std::make_unique<OpenContext>();
    std::string path = folder.path(image(number));
    held.opened = open_container({make_content(open_file(path)), path, file_sibling(path)}, *held.context);
    return held;
  }

  void hide(std::size_t number) const {
    std::filesystem::rename(folder.path(image(number)), folder.path("." + image(number)));
  }

  /// Makes the file system on loop devices and fills it by the kernel; says why it cannot.
  std::string make() const {
    std::vector<std::string> loops,
        arguments = {"-q", "-f", "-d", GetParam().profile, "-m", GetParam().profile};
    for (std::size_t i = 0; i < GetParam().devices; ++i) {
      make_room(folder.path(image(i)), off_t{200} << 20);
      Ran loop = tool("losetup", {"-f", "--show", image(i)}, folder.path());
      if (loop.exit_code != 0) return "no loop devices: " + loop.err;
      loops.push_back(std::string(trim(loop.out)));
      arguments.push_back(loops.back());
    }
    std::string options = "noatime", mounted = folder.path("mounted");
    for (const std::string& loop : loops) options += ",device=" + loop;
    std::filesystem::create_directory(mounted);
    Ran made = tool("mkfs.btrfs", arguments, folder.path());
    Ran mount = tool("mount", {"-t", "btrfs", "-o", options, loops[0], mounted}, folder.path());
    if (mount.exit_code == 0) {
      EXPECT_EQ(tool("cp", {"-a", folder.path("tree") + "/.", mounted}, folder.path()).exit_code, 0);
      EXPECT_EQ(tool("umount", {mounted}, folder.path()).exit_code, 0);
    }
    for (const std::string& loop : loops) tool("losetup", {"-d", loop}, folder.path());
    return made.exit_code != 0    ? made.err
           : mount.exit_code != 0 ? "the kernel does not mount it: " + mount.err
                                  : "";
  }
};

TEST_P(BtrfsPool, HoldsTheTreeAlsoWithoutSomeOfThem) {
  NEEDS("mkfs.btrfs");
  NEEDS("losetup");
  if (geteuid() != 0) GTEST_SKIP() << "only root may mount";
  write_tree(folder, "tree", tree);
  if (std::string why = make(); !why.empty()) GTEST_SKIP() << why;
  {
    Held held = open_device(GetParam().devices - 1);
    ASSERT_EQ(held.format(), "btrfs");
    EXPECT_EQ(compare_tree(held, tree), "");
    EXPECT_EQ(fact(*held, "devices"), fmt::format("{0} of {0}", GetParam().devices));
    EXPECT_TRUE(held->findings().empty()) << held->findings().front().text;
  }
  for (unsigned lost = 0; lost < GetParam().spare; ++lost) {
    hide(lost);
    Held held = open_device(GetParam().devices - 1);
    EXPECT_TRUE(has_finding(*held, "put the others there"));
    EXPECT_EQ(compare_tree(held, tree), "") << lost;
  }
}

INSTANTIATE_TEST_SUITE_P(Profiles, BtrfsPool,
                         testing::Values(Pool{"raid0", 3, 0}, Pool{"raid1", 2, 1}, Pool{"raid1c3", 3, 2},
                                         Pool{"raid10", 4, 1}, Pool{"raid5", 3, 1}, Pool{"raid6", 4, 2}),
                         [](const auto& one) { return std::string(one.param.profile); });

struct BtrfsSum : testing::TestWithParam<std::pair<const char*, const char*>> {};

TEST_P(BtrfsSum, ADamagedSectorIsToldOrReadFromTheOtherCopy) {
  NEEDS("mkfs.btrfs");
  auto [profile, kind] = GetParam();
  TempFolder folder;
  SampleTree tree = tree_for_tools();
  write_tree(folder, "tree", tree);
  make_room(folder.path("image"), off_t{200} << 20);
  Ran made = tool("mkfs.btrfs",
                  {"-q", "-f", "-m", profile, "-d", profile, "--csum", kind, "--rootdir", "tree", "image"},
                  folder.path());
  ASSERT_EQ(made.exit_code, 0) << made.err;
  SourcePtr image = open_file(folder.path("image"));
  Bytes all = read_up_to(*image, 0, image->size());
  const Bytes& large = std::find_if(tree.begin(), tree.end(), [](const SampleNode& node) {
                         return node.path == "large.bin";
                       })->data;
  auto place = std::search(all.begin(), all.end(), large.begin() + 8192, large.begin() + 8192 + 64);
  ASSERT_NE(place, all.end());
  int file = open(folder.path("image").c_str(), O_WRONLY | O_CLOEXEC);
  ASSERT_EQ(pwrite(file, "?", 1, place - all.begin()), 1);
  close(file);
  Held held = open_path(folder.path("image"));
  if (std::string(profile) == "dup") {
    EXPECT_EQ(text_at(*held, "large.bin"), as_text(large));
  } else {
    EXPECT_REFUSAL(text_at(*held, "large.bin"), Malformed, " does not fit its checksum");
  }
}

INSTANTIATE_TEST_SUITE_P(Kinds, BtrfsSum,
                         testing::Values(std::pair("single", "crc32c"), std::pair("single", "xxhash"),
                                         std::pair("single", "sha256"), std::pair("single", "blake2"),
                                         std::pair("dup", "crc32c")));

TEST(Btrfs, SnapshotsAreAViewOfTheirOwn) {
  KernelImages images("gallery");
  OpenContext context;
  context.keys.add({"ebb and flow", "the test"});
  context.view = "snapshots";
  Place place = resolve(images.path("gallery-disk-0.img") + "/exhibits", context, Step::into);
  ASSERT_EQ(place.layers.back().format->id, "btrfs");
  Container& found = *place.layers.back().container;
  std::string paths = paths_of(found);
  EXPECT_EQ(paths.substr(0, paths.find(' ')), "257-before-the-storm");
  EXPECT_EQ(text_at(found, "257-before-the-storm/hours.txt"), "Opens at nine.\n");
}

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

// XFS: images that its own mkfs fills from a list, in every version and form that it makes, and images that
// the kernel wrote. Both know nothing of this program.
#include <fcntl.h>
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <filesystem>

#include "base/cursor.h"
#include "base/text.h"
#include "io/file_source.h"
#include "support/kernel_mount.h"
#include "support/refusal.h"
#include "support/system_tools.h"

namespace operculum {
namespace {

using namespace test;

constexpr off_t kSize = off_t{320} << 20;  // bytes: mkfs makes none that is smaller; holes

void make_room(const std::string& path) {
  ASSERT_EQ(truncate(path.c_str(), 0) == 0 || errno == ENOENT, true);
  int file = open(path.c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0644);
  ASSERT_GE(file, 0);
  ASSERT_EQ(ftruncate(file, kSize), 0);
  close(file);
}

/// A list of what is to be in the file system, as mkfs reads it ("protofile").
std::string list_for_mkfs(const SampleTree& tree, const std::string& beside, const std::string& folder = "") {
  std::string text;
  for (std::size_t i : children_of(tree, folder)) {
    const SampleNode& node = tree[i];
    if (node.kind == EntryKind::folder) {
      text += fmt::format("{} d--{:03o} {} {}\n{}$\n", node.name(), node.permissions(), node.user, node.group,
                          list_for_mkfs(tree, beside, node.path));
    } else if (node.kind == EntryKind::symbolic_link) {
      text += fmt::format("{} l--777 0 0 {}\n", node.name(), node.target);
    } else {
      text += fmt::format("{} ---{:03o} {} {} {}/{}\n", node.name(), node.permissions(), node.user,
                          node.group, beside, node.path);
    }
  }
  return text;
}

SampleTree plain_tree() {
  SampleTree tree = sample_tree_with_links();
  // The list separates words by blanks.
  std::erase_if(tree, [](const SampleNode& node) { return node.path.find(' ') != std::string::npos; });
  tree.push_back({.path = "large.bin", .data = noise(2'500'000, 3)});
  tree.push_back({.path = "far", .kind = EntryKind::symbolic_link, .target = std::string(150, 'f')});
  return tree;
}

struct MadeBy {
  const char* name;
  std::vector<std::string> options;
};

struct XfsMade : testing::TestWithParam<MadeBy> {};

TEST_P(XfsMade, HoldsTheTree) {
  NEEDS("mkfs.xfs");
  TempFolder folder;
  SampleTree tree = plain_tree();
  write_tree(folder, "tree", tree);
  folder.write("list", "/\n0 0\nd--755 0 0\n" + list_for_mkfs(tree, folder.path("tree")) + "$\n");
  make_room(folder.path("image"));
  std::vector<std::string> arguments = {"-q", "-f", "-L", "gauge", "-p", folder.path("list")};
  arguments.insert(arguments.end(), GetParam().options.begin(), GetParam().options.end());
  arguments.push_back("image");
  Ran made = tool("mkfs.xfs", arguments, folder.path());
  if (made.exit_code != 0) GTEST_SKIP() << "this mkfs.xfs lacks " << GetParam().name << ": " << made.err;
  Held held = open_path(folder.path("image"));
  ASSERT_EQ(held.format(), "xfs");
  EXPECT_EQ(compare_tree(held, tree), "");
  EXPECT_EQ(fact(*held, "label"), "gauge");
  EXPECT_EQ(entry_at(*held, "gauge/run").mode, 0755u);
  EXPECT_TRUE(held->findings().empty()) << held->findings().front().text;
}

INSTANTIATE_TEST_SUITE_P(
    Sets, XfsMade,
    testing::Values(MadeBy{"defaults", {}}, MadeBy{"version_4", {"-m", "crc=0"}},
                    MadeBy{"version_4_without_types", {"-m", "crc=0", "-n", "ftype=0"}},
                    MadeBy{"version_4_block_512", {"-m", "crc=0", "-b", "size=512"}},
                    MadeBy{"version_4_inode_256", {"-m", "crc=0", "-i", "size=256"}},
                    MadeBy{"block_1024", {"-b", "size=1024"}}, MadeBy{"block_2048", {"-b", "size=2048"}},
                    MadeBy{"inode_2048", {"-i", "size=2048"}},
                    MadeBy{"large_folder_blocks", {"-n", "size=65536"}},
                    MadeBy{"short_times", {"-m", "bigtime=0"}}, MadeBy{"large_counts", {"-i", "nrext64=1"}},
                    MadeBy{"dense_inodes", {"-i", "sparse=0"}}, MadeBy{"sectors_4096", {"-s", "size=4096"}},
                    MadeBy{"without_case", {"-n", "version=ci"}}),
    [](const auto& one) { return one.param.name; });

/// What only a system that runs makes: folders of many names, trees of extents, shared blocks, large
/// attributes.
struct XfsWritten : testing::Test {
  TempFolder folder;
  SampleTree tree = plain_tree();

  void SetUp() override {
    NEEDS("mkfs.xfs");
    if (geteuid() != 0) GTEST_SKIP() << "only root may mount";
    make_room(folder.path("image"));
    ASSERT_EQ(tool("mkfs.xfs", {"-q", "-f", "image"}, folder.path()).exit_code, 0);
    for (int i = 0; i < 3000; ++i)
      tree.push_back({.path = fmt::format("crowd/{:04}-{}", i, std::string(40, 'n')),
                      .data = to_bytes(std::to_string(i))});
    tree.insert(tree.begin(), {.path = "crowd", .kind = EntryKind::folder});
    tree.push_back({.path = "farther", .kind = EntryKind::symbolic_link, .target = std::string(900, 'f')});
    write_tree(folder, "tree", tree);
  }

  void fill(const std::string& mounted) {
    ASSERT_EQ(tool("cp", {"-a", folder.path("tree") + "/.", mounted}, folder.path()).exit_code, 0);
    ASSERT_EQ(tool("cp", {"--reflink=always", "large.bin", "shared.bin"}, mounted).exit_code, 0);
    tree.push_back({.path = "shared.bin", .data = noise(2'500'000, 3)});
    constexpr off_t kBlock = 4096;
    Bytes pieces(static_cast<std::size_t>(2000 * kBlock));
    int file = open((mounted + "/pieces.bin").c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0644);
    for (off_t at = 0; at < static_cast<off_t>(pieces.size()); at += 2 * kBlock) {
      Bytes block = noise(kBlock, static_cast<unsigned>(at));
      std::copy(block.begin(), block.end(), pieces.begin() + at);
      ASSERT_EQ(pwrite(file, block.data(), block.size(), at), kBlock);
    }
    ASSERT_EQ(ftruncate(file, static_cast<off_t>(pieces.size())), 0);
    ASSERT_EQ(fallocate(file, FALLOC_FL_KEEP_SIZE, static_cast<off_t>(pieces.size()) + kBlock, 50 * kBlock),
              0);
    close(file);
    tree.push_back({.path = "pieces.bin", .data = pieces});
    ASSERT_EQ(truncate((mounted + "/hole.bin").c_str(), 0) == 0 || errno == ENOENT, true);
    int hole = open((mounted + "/hole.bin").c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0644);
    ASSERT_EQ(ftruncate(hole, off_t{3} << 20), 0);
    close(hole);
    tree.push_back({.path = "hole.bin", .data = Bytes(3 << 20)});
    std::string large(20'000, 'v');
    for (int i = 0; i < 40; ++i)
      setxattr((mounted + "/crab.txt").c_str(), fmt::format("user.{}-{}", i, std::string(100, 'a')).c_str(),
               "value", 5, 0);
    setxattr((mounted + "/crab.txt").c_str(), "user.large", large.data(), large.size(), 0);
    setxattr((mounted + "/crab.txt").c_str(), "trusted.exhibit", "seven", 5, 0);
  }
};

TEST_F(XfsWritten, HoldsWhatTheKernelWrote) {
  {
    KernelMount mounted(folder, "image", {"-t", "xfs", "-o", "loop"});
    if (!mounted.works()) GTEST_SKIP() << "this kernel does not mount it: " << mounted.why();
    fill(mounted.path());
  }
  Held held = open_path(folder.path("image"));
  EXPECT_EQ(compare_tree(held, tree), "");
  EXPECT_TRUE(held->findings().empty()) << held->findings().front().text;
  const auto& attributes = entry_at(*held, "crab.txt").extra->attributes;
  EXPECT_EQ(attributes.size(), 42u);
  bool large = false, trusted = false;
  for (const auto& [name, value] : attributes) {
    large |= name == "user.large" && value == std::string(20'000, 'v');
    trusted |= name == "trusted.exhibit" && value == "seven";
  }
  EXPECT_TRUE(large && trusted);
  EXPECT_NE(entry_at(*held, "hole.bin").flags & Entry::sparse, 0);
}

TEST_F(XfsWritten, SaysThatTheLogWasNotReplayed) {
  {
    KernelMount mounted(folder, "image", {"-t", "xfs", "-o", "loop"});
    if (!mounted.works()) GTEST_SKIP() << "this kernel does not mount it: " << mounted.why();
    std::filesystem::create_directory(mounted.path() + "/new");
    ASSERT_EQ(tool("sync", {"-f", mounted.path()}, folder.path()).exit_code, 0);
    ASSERT_EQ(tool("cp", {"--sparse=always", "image", "copy"}, folder.path()).exit_code, 0);
  }
  EXPECT_TRUE(has_finding(*open_path(folder.path("copy")), "it was not unmounted"));
  EXPECT_FALSE(has_finding(*open_path(folder.path("image")), "it was not unmounted"));
}

TEST(Xfs, DamageCostsOnlyWhatItHits) {
  NEEDS("mkfs.xfs");
  TempFolder folder;
  SampleTree tree = plain_tree();
  write_tree(folder, "tree", tree);
  folder.write("list", "/\n0 0\nd--755 0 0\n" + list_for_mkfs(tree, folder.path("tree")) + "$\n");
  make_room(folder.path("image"));
  ASSERT_EQ(tool("mkfs.xfs", {"-q", "-f", "-p", "list", "image"}, folder.path()).exit_code, 0);
  SourcePtr image = open_file(folder.path("image"));
  Bytes front = read_up_to(*image, 0, 4 << 20);
  // Every inode begins with "IN"; each in turn loses its size's sum.
  std::size_t damaged = 0;
  for (std::size_t at = 0; at + 512 <= front.size(); at += 512) {
    if (front[at] != 'I' || front[at + 1] != 'N' || load_little<std::uint16_t>(&front[at + 2]) == 0) continue;
    int file = open(folder.path("image").c_str(), O_WRONLY | O_CLOEXEC);
    Byte changed = front[at + 48] ^ 1;  // di_ctime
    ASSERT_EQ(pwrite(file, &changed, 1, static_cast<off_t>(at + 48)), 1);
    Held held = open_path(folder.path("image"));
    std::size_t listed = held->entries().size();
    EXPECT_GE(listed + 1, tree.size());
    damaged += held->findings().empty() ? 0 : 1;
    ASSERT_EQ(pwrite(file, &front[at + 48], 1, static_cast<off_t>(at + 48)), 1);
    close(file);
  }
  EXPECT_GT(damaged, 3u);
}

TEST(Xfs, ASuperblockThatIsNoneSaysWhy) {
  Bytes raw(1024);
  std::copy_n("XFSB", 4, raw.begin());
  EXPECT_REFUSAL(open_bytes(raw, "image", As::file)->entries(), Malformed, "the bytes were not recognised");
  raw[5] = 0x10;              // sb_blocksize 4096 * 256
  raw[120] = raw[122] = 254;  // sb_blocklog, sb_inodelog
  EXPECT_REFUSAL(open_bytes(raw, "image", As::file)->entries(), Malformed, "the bytes were not recognised");
}

}  // namespace
}  // namespace operculum

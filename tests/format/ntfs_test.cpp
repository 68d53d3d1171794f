// NTFS, by a writer of its own that follows the records in src/format/filesystem/ntfs_records.h, compared
// with what the file system's own tools read; images that others made are in system_images_test.cpp.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/text.h"
#include "support/has.h"
#include "support/ntfs_writer.h"
#include "support/open.h"
#include "support/refusal.h"
#include "support/system_tools.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

using namespace test;

SampleTree plain_tree() {
  SampleTree tree = sample_tree();
  std::string half(40'000, 'x');
  Bytes holed = noise(20'480, 9);
  holed.resize(40'960);
  tree.push_back({.path = "packs.txt", .data = to_bytes(half)});
  tree.push_back({.path = "holed.bin", .data = holed});
  tree.push_back({.path = "scattered.bin", .data = noise(9'000, 4)});
  return tree;
}

struct Case {
  std::string name;
  NtfsOptions options;
};
void PrintTo(const Case& one, std::ostream* out) {
  *out << one.name;
}

class NtfsForms : public testing::TestWithParam<Case> {};

TEST_P(NtfsForms, AreReadAsTheyWereWritten) {
  SampleTree tree = plain_tree();
  Held held = open_bytes(make_ntfs(tree, GetParam().options));
  ASSERT_EQ(held.format(), "ntfs");
  EXPECT_EQ(compare_tree(held, tree), "");
}

INSTANTIATE_TEST_SUITE_P(Ntfs, NtfsForms,
                         testing::Values(Case{"plain", {}}, Case{"packed", {.packed = "packs.txt"}},
                                         Case{"scattered", {.scattered = "scattered.bin"}},
                                         Case{"listed", {.listed = "scattered.bin"}},
                                         Case{"holed", {.holed = "holed.bin"}},
                                         Case{"short_names", {.short_names = true}}),
                         [](const auto& one) { return one.param.name; });

TEST(Ntfs, LinksAreReparsePoints) {
  SampleTree tree = sample_tree_with_links();
  Held held = open_bytes(make_ntfs(tree));
  EXPECT_EQ(compare_tree(held, tree), "");
}

TEST(Ntfs, LinksTooLongForTheirRecordLieElsewhere) {
  SampleTree tree = {{.path = "far", .kind = EntryKind::symbolic_link, .target = std::string(700, 'f')}};
  Held held = open_bytes(make_ntfs(tree));
  EXPECT_EQ(compare_tree(held, tree), "");
}

TEST(Ntfs, FurtherStreamsAreListedBehindTheirFile) {
  Held held =
      open_bytes(make_ntfs({{.path = "crab.txt", .data = to_bytes("pinch")}}, {.streamed = "crab.txt"}));
  EXPECT_EQ(text_at(*held, "crab.txt"), "pinch");
  EXPECT_EQ(text_at(*held, "crab.txt:note"), "of the mole");
}

TEST(Ntfs, PackedAndHoledFilesTellIt) {
  Held held = open_bytes(make_ntfs(plain_tree(), {.packed = "packs.txt", .holed = "holed.bin"}));
  const Entry& packed = entry_at(*held, "packs.txt");
  EXPECT_EQ(packed.method, "lznt1");
  EXPECT_LT(packed.stored_size, packed.size);
  EXPECT_NE(entry_at(*held, "holed.bin").flags & Entry::sparse, 0);
}

TEST(Ntfs, WhatIsKeptTwiceIsTakenFromItsCopy) {
  SampleTree tree = plain_tree();
  tree.resize(3);
  Held by_backup = open_bytes(make_ntfs(tree, {.damaged_table_record = true}));
  EXPECT_TRUE(has_finding(*by_backup,
                          "the master file table is damaged (NTFS: a record lacks the mark FILE); "
                          "its mirror was used"));
  EXPECT_EQ(paths_of(*by_backup), paths_of(*open_bytes(make_ntfs(tree))));
}

TEST(Ntfs, CutImagesGiveWhatIsThere) {
  Bytes image = make_ntfs({{.path = "pool", .kind = EntryKind::folder},
                           {.path = "pool/tide.csv", .data = noise(3000)},
                           {.path = "crab.txt", .data = to_bytes("pinch")}});
  image.resize(image.size() - 6000);
  Held held = open_bytes(image);
  EXPECT_EQ(text_at(*held, "crab.txt"), "pinch");
  EXPECT_TRUE(has_finding(*held, "cut short"));
}

/// What the file system's own tools read of an image; they want version 3 for packed files, and more with it.
TEST(Ntfs, ItsOwnToolsReadTheSame) {
  NEEDS("ntfscat");
  SampleTree tree = plain_tree();
  TempFolder folder;
  folder.write(
      "image",
      make_ntfs(tree, {.scattered = "scattered.bin", .holed = "holed.bin", .all_system_files = true}));
  for (const SampleNode& node : tree) {
    if (node.kind != EntryKind::file) continue;
    Ran ran = tool("ntfscat", {"-f", "image", node.path}, folder.path());
    EXPECT_EQ(ran.exit_code, 0) << node.path << ": " << ran.err;
    EXPECT_TRUE(ran.out == as_text(node.data)) << node.path;
  }
}

}  // namespace
}  // namespace operculum

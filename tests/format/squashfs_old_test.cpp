// SquashFS 2.x and 3.x: images of our own writer, which the makers' own program reads, too.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "format/filesystem/squashfs_old_volume.h"
#include "support/has.h"
#include "support/open.h"
#include "support/sentence.h"
#include "support/squashfs_old_writer.h"
#include "support/system_tools.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

using namespace test;
using Packing = OldSquashOptions::Packing;

std::string name_of(const OldSquashOptions& o) {
  constexpr const char* kPackings[] = {"zlib", "lzma", "properties", "bare"};
  return fmt::format("v{}_{}_{}{}{}{}", o.major, o.big ? "big" : "little",
                     kPackings[static_cast<int>(o.packing)], o.marked ? "_marked" : "",
                     o.indexed ? "_indexed" : "", o.fragments ? "" : "_whole");
}

struct OldSquash : testing::TestWithParam<OldSquashOptions> {};

SampleTree tree() {
  SampleTree tree = sample_tree_with_links();
  tree.push_back({.path = "pipe", .kind = EntryKind::fifo});
  tree.push_back({.path = "valve", .kind = EntryKind::character_device});
  tree.push_back({.path = "owned.txt", .data = to_bytes("mine\n"), .user = 1000, .group = 100});
  return tree;
}

TEST_P(OldSquash, IsReadWhole) {
  Held held = open_bytes(make_old_squashfs(tree(), GetParam()));
  ASSERT_EQ(held.format(), "squashfs");
  EXPECT_EQ(compare_tree(held, tree()), "");
  EXPECT_EQ(fact(*held, "version"), fmt::format("{}.1", GetParam().major));
  EXPECT_EQ(fact(*held, "order"), GetParam().big ? "big-endian" : "little-endian");
  EXPECT_EQ(fact(*held, "packed by"), GetParam().packing == Packing::zlib ? "zlib" : "lzma");
  const Entry& owned = entry_at(*held, "owned.txt");
  EXPECT_EQ(owned.extra->user_id, 1000u);
  EXPECT_EQ(owned.extra->group_id, 100u);
  const Entry& valve = entry_at(*held, "valve");
  EXPECT_EQ(valve.extra->device_major, 5u);
  EXPECT_EQ(valve.extra->device_minor, 1u);
  EXPECT_EQ(entry_at(*held, "gauge/logs").mode, 0700u);
  EXPECT_EQ(entry_at(*held, "crab.txt").modified.seconds, 1772373908);
}

TEST_P(OldSquash, IsReadByTheMakersProgram) {
  if (GetParam().packing != Packing::zlib || GetParam().marked) GTEST_SKIP() << "it reads zlib alone";
  NEEDS("unsquashfs");
  TempFolder folder;
  folder.write("image", ByteView(make_old_squashfs(sample_tree(), GetParam())));
  Ran ran = tool("unsquashfs", {"-no-progress", "-d", "out", "image"}, folder.path());
  ASSERT_EQ(ran.exit_code, 0) << ran.out << ran.err;
  for (const SampleNode& node : sample_tree()) {
    if (node.kind == EntryKind::file)
      EXPECT_EQ(to_bytes(folder.read("out/" + node.path)), node.data) << node.path;
  }
}

INSTANTIATE_TEST_SUITE_P(
    Forms, OldSquash,
    testing::Values(OldSquashOptions{.major = 2}, OldSquashOptions{.major = 2, .big = true},
                    OldSquashOptions{.major = 2, .indexed = true}, OldSquashOptions{.major = 3},
                    OldSquashOptions{.major = 3, .big = true},
                    OldSquashOptions{.major = 3, .big = true, .indexed = true},
                    OldSquashOptions{.major = 3, .block = 4096, .fragments = false},
                    OldSquashOptions{.major = 3, .marked = true},
                    OldSquashOptions{.major = 3, .packing = Packing::lzma},
                    OldSquashOptions{.major = 3, .big = true, .packing = Packing::lzma_properties},
                    OldSquashOptions{.major = 2, .big = true, .packing = Packing::lzma_bare}),
    [](const auto& info) { return name_of(info.param); });

TEST(OldSquashfs, TellsMagicsOfMakersAndTheFirstVersion) {
  Bytes image = make_old_squashfs({{.path = "a.txt", .data = to_bytes("tide\n")}}, {.big = true});
  std::copy_n("qshs", 4, image.begin());
  Held held = open_bytes(image);
  ASSERT_EQ(held.format(), "squashfs");
  EXPECT_EQ(text_at(*held, "a.txt"), "tide\n");
  EXPECT_TRUE(has_finding(*held, "its magic is \"qshs\" where \"sqsh\" is usual"));
  image[29] = 1;
  EXPECT_EQ(sentence([&] { open_bytes(image); }), "Unsupported: SquashFS 1.1");
}

TEST(OldSquashfs, DamageCostsOnlyWhatItHits) {
  SampleTree small = {{.path = "a.txt", .data = to_bytes("tide\n")},
                      {.path = "pool", .kind = EntryKind::folder},
                      {.path = "pool/b.bin", .data = noise(20'000)}};
  Bytes image = make_old_squashfs(small, {.packing = Packing::lzma, .block = 4096, .fragments = false});
  image[119 + 2] ^= 0xFF;  // within a.txt, which comes first
  Held held = open_bytes(image);
  EXPECT_NE(text_at(*held, "a.txt"), "tide\n");
  EXPECT_EQ(text_at(*held, "pool/b.bin"), as_text(noise(20'000)));
  image.resize(3000);
  Held cut = open_bytes(image);
  EXPECT_TRUE(has_finding(*cut, "the image is cut short"));
}

TEST(OldSquashfs, EveryPrefixEndsWell) {
  SampleTree small = {{.path = "a.txt", .data = to_bytes("tide\n")},
                      {.path = "pool", .kind = EntryKind::folder},
                      {.path = "pool/b.txt", .data = to_bytes("ebb\n")}};
  read_every_prefix(make_old_squashfs(small, {.block = 4096}), "old.sqfs");
  read_every_prefix(make_old_squashfs(small, {.major = 2, .big = true, .packing = Packing::lzma_bare}),
                    "old.sqfs");
}

}  // namespace
}  // namespace operculum

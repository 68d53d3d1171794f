// Every file system and partition table cut at a thousand places and with a thousand bytes flipped: no crash, no hang,
// and nothing that claims to be whole and is not.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "support/disk_writer.h"
#include "support/ext_writer.h"
#include "support/fat_writer.h"
#include "support/hfs_writer.h"
#include "support/iso_writer.h"
#include "support/open.h"
#include "support/program.h"
#include "support/squashfs_writer.h"
#include "support/temp_folder.h"
#include "support/udf_writer.h"

namespace operculum {
namespace {

using namespace test;

constexpr std::size_t kMost = 8 << 20;

SampleTree small_tree() {
  SampleTree tree = {{.path = "pool", .kind = EntryKind::folder},
                     {.path = "pool/deep", .kind = EntryKind::folder},
                     {.path = "crab.txt", .data = to_bytes("pinch\n")},
                     {.path = "pool/deep/limpet of the northern mole.bin", .data = noise(9000)},
                     {.path = "pool/tide.csv", .data = Bytes(20'000, 'x')}};
  return tree;
}

struct Case {
  std::string name;
  std::function<Bytes()> make;
  std::size_t reach;  // bytes at the front in which structures lie; flips fall there
};

std::vector<Case> cases() {
  auto tree = small_tree();
  auto with_links = tree;
  with_links.push_back({.path = "latest", .kind = EntryKind::symbolic_link, .target = "pool/deep"});
  return {
      {"ext", [=] { return make_ext(with_links, 256 << 10); }, 64 << 10},
      {"fat12", [=] { return make_fat(tree, 12); }, 64 << 10},
      {"fat32", [=] { return make_fat(tree, 32); }, 600 << 10},
      {"exfat", [=] { return make_exfat(tree); }, 80 << 10},
      {"squashfs", [=] { return make_squashfs(with_links, {.codec = BlockCodec::zlib}); }, kMost},
      {"squashfs_long", [=] { return make_squashfs(with_links, {.codec = BlockCodec::lz4, .block = 4096, .extended = true}); }, kMost},
      {"hfs", [=] { return make_hfs(with_links, {.packed_kept = "pool/tide.csv", .scattered = "pool/deep/limpet of the northern mole.bin", .attributed = "crab.txt"}); }, kMost},
      {"iso", [=] { return make_iso(with_links, {.packed = "pool/tide.csv"}); }, kMost},
      {"udf", [=] { return make_udf(with_links, {.embedded = false}); }, kMost},
      {"udf_metadata", [=] { return make_udf(with_links, {.partition = UdfPartition::metadata}); }, kMost},
      {"udf_virtual", [=] { return make_udf(with_links, {.partition = UdfPartition::virtual_table}); }, kMost},
      {"gpt", [=] { return make_gpt({{make_squashfs(tree), "pool"}}); }, 20 << 10},
      {"mbr", [=] { return make_mbr({{noise(5000)}, {noise(5000)}, {noise(500)}, {noise(500)}, {noise(500)}}); }, 400 << 10},
      {"apple", [=] { return make_apple_map({{noise(5000), "a", "Apple_HFS"}}); }, 4096},
  };
}

/// All data by path, as far as it could be read without an error.
std::map<std::string, std::string> contents_of(const Bytes& image, bool& opened) {
  std::map<std::string, std::string> out;
  opened = false;
  try {
    Held held = open_bytes(image, "image");
    if (!held.opened.container) return out;
    opened = true;
    held.context->limits.max_entries = 20'000;
    std::size_t total = 0;
    for (std::size_t i = 0; i < held->entries().size() && total < kMost; ++i) {
      const Entry& entry = held->entries()[i];
      if (!entry.has_data()) continue;
      try {
        StreamPtr stream = held->content(i)->stream();
        Bytes data(1 << 16), all;
        while (std::size_t count = stream->read(data)) {
          all.insert(all.end(), data.begin(), data.begin() + static_cast<std::ptrdiff_t>(count));
          if (all.size() > (1 << 20)) break;
        }
        total += all.size();
        out[entry.path] = as_text(all);
      } catch (const Error&) {
      }
    }
  } catch (const Error&) {
  }
  return out;
}

struct DamagedImage : testing::TestWithParam<Case> {};

TEST_P(DamagedImage, CutAtAThousandPlaces) {
  Bytes image = GetParam().make();
  bool opened = false;
  auto whole = contents_of(image, opened);
  ASSERT_TRUE(opened);
  std::size_t read = 0;
  std::size_t step = std::max<std::size_t>(1, image.size() / 1000);
  for (std::size_t size = 0; size < image.size(); size += step) {
    Bytes cut(image.begin(), image.begin() + static_cast<std::ptrdiff_t>(size));
    for (const auto& [path, data] : contents_of(cut, opened)) {
      auto same = whole.find(path);
      if (same == whole.end() || path.starts_with("unallocated") || GetParam().name == "gpt" || GetParam().name == "mbr" || GetParam().name == "apple") continue;
      EXPECT_EQ(same->second == data, true) << path << " differs when cut at " << size;
      ++read;
    }
  }
  EXPECT_TRUE(read > 0 || GetParam().name == "gpt" || GetParam().name == "mbr" || GetParam().name == "apple" || GetParam().name.starts_with("squashfs") ||
              GetParam().name == "udf_virtual" || GetParam().name == "hfs");
}

TEST_P(DamagedImage, AThousandBytesFlipped) {
  Bytes image = GetParam().make();
  std::uint32_t state = 1;
  std::size_t opens = 0;
  for (int round = 0; round < 1000; ++round) {
    Bytes broken = image;
    state = state * 1664525 + 1013904223;
    std::size_t at = (state >> 3) % std::min(broken.size(), GetParam().reach);
    broken[at] ^= static_cast<Byte>(1 + (state >> 24) % 255);
    bool opened = false;
    contents_of(broken, opened);
    opens += opened ? 1 : 0;
  }
  EXPECT_GT(opens, 300u);
}

INSTANTIATE_TEST_SUITE_P(Kinds, DamagedImage, testing::ValuesIn(cases()), [](const auto& each) { return each.param.name; });

}  // namespace
}  // namespace operculum

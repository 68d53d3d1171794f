// Every file system and partition table cut at hundreds of places and with hundreds of bytes flipped: no
// crash, no hang, and nothing that claims to be whole and is not.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <filesystem>

#include "support/apfs_writer.h"
#include "support/disk_writer.h"
#include "support/ext_writer.h"
#include "support/fat_writer.h"
#include "support/hfs_writer.h"
#include "support/iso_writer.h"
#include "support/kernel_images.h"
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
  std::size_t reach;  // bytes at the front in which structures lie: cuts and flips fall there
  bool ranges = false;
  std::size_t rounds = 500;  // fewer for images that take long to read; fuzz targets try the rest
};

/// An image that a tool of the system makes of the tree; empty where it cannot.
Bytes made_by(const std::string& program, const std::vector<std::string>& arguments, const SampleTree& tree,
              std::size_t size = 0) {
  if (!on_path(program)) return {};
  TempFolder folder;
  for (const SampleNode& node : tree) {
    if (node.kind == EntryKind::folder) std::filesystem::create_directories(folder.path("tree/" + node.path));
    if (node.kind == EntryKind::file) folder.write("tree/" + node.path, ByteView(node.data));
  }
  if (size > 0) folder.write("image", ByteView(Bytes(size)));
  if (run(program, arguments, folder.path()).exit_code != 0) return {};
  return to_bytes(folder.read("image"));
}

Bytes kernel_image(const std::string& set) {
  KernelImages images(set);
  return to_bytes(images.folder().read(set + ".img"));
}

std::vector<Case> cases() {
  auto tree = small_tree();
  auto with_links = tree;
  with_links.push_back({.path = "latest", .kind = EntryKind::symbolic_link, .target = "pool/deep"});
  return {
      {"ext", [=] { return make_ext(with_links, 256 << 10); }, 64 << 10},
      {"fat12", [=] { return make_fat(tree, 12); }, 64 << 10},
      {"fat32", [=] { return make_fat(tree, 32); }, 300 << 10, false, 100},
      {"exfat", [=] { return make_exfat(tree); }, 80 << 10},
      {"squashfs", [=] { return make_squashfs(with_links, {.codec = BlockCodec::zlib}); }, kMost},
      {"squashfs_long",
       [=] { return make_squashfs(with_links, {.codec = BlockCodec::lz4, .block = 4096, .extended = true}); },
       kMost},
      {"hfs",
       [=] {
         return make_hfs(with_links, {.packed_kept = "pool/tide.csv",
                                      .scattered = "pool/deep/limpet of the northern mole.bin",
                                      .attributed = "crab.txt"});
       },
       kMost},
      {"apfs",
       [=] {
         return make_apfs({{.tree = with_links, .packed_fork = "pool/tide.csv", .attributed = "crab.txt"}});
       },
       kMost},
      {"apfs_sealed",
       [=] {
         return make_apfs({{.tree = with_links, .ignores_case = true, .sealed = true}, {.name = "other"}});
       },
       kMost},
      {"iso", [=] { return make_iso(with_links, {.packed = "pool/tide.csv"}); }, kMost},
      {"udf", [=] { return make_udf(with_links, {.embedded = false}); }, kMost},
      {"udf_metadata", [=] { return make_udf(with_links, {.partition = UdfPartition::metadata}); }, kMost},
      {"udf_virtual", [=] { return make_udf(with_links, {.partition = UdfPartition::virtual_table}); },
       kMost},
      {"gpt",
       [=] {
         return make_gpt({{make_squashfs(tree), "pool"}});
       },
       20 << 10, true},
      {"mbr",
       [=] {
         return make_mbr({{noise(5000)}, {noise(5000)}, {noise(500)}, {noise(500)}, {noise(500)}});
       },
       400 << 10, true},
      {"apple",
       [=] {
         return make_apple_map({{noise(5000), "a", "Apple_HFS"}});
       },
       4096, true},
      {"befs", [] { return kernel_image("befs"); }, 400 << 10, false, 400},
      {"qnx4", [] { return kernel_image("qnx4"); }, 200 << 10, false, 400},
      {"qnx6", [] { return kernel_image("qnx6"); }, 200 << 10, false, 400},
      {"xenix", [] { return kernel_image("xenix"); }, kMost},
      {"affs", [] { return kernel_image("affs-ffs"); }, kMost, false, 200},
      {"hpfs", [] { return kernel_image("hpfs"); }, kMost, false, 200},
      {"erofs",
       [=] {
         return made_by("mkfs.erofs", {"--quiet", "-zlz4hc", "image", "tree"}, tree);
       },
       kMost},
      {"erofs_fragments",
       [=] {
         return made_by("mkfs.erofs", {"--quiet", "-zlz4hc", "-Efragments,ztailpacking", "image", "tree"},
                        tree);
       },
       kMost},
      {"cramfs",
       [=] {
         return made_by("mkfs.cramfs", {"tree", "image"}, tree);
       },
       kMost},
      {"romfs",
       [=] {
         return made_by("genromfs", {"-f", "image", "-d", "tree"}, tree);
       },
       kMost},
      {"ntfs",
       [=] {
         return made_by("mkfs.ntfs", {"-q", "-F", "image"}, {}, 4 << 20);
       },
       256 << 10},
  };
}

/// Bytes that the test may change while nobody reads them; not copied, for an image may be large.
class Buffer final : public Source {
 public:
  explicit Buffer(Bytes& bytes) : bytes_(bytes) {}
  std::uint64_t size() const override { return bytes_.size(); }
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    if (offset >= bytes_.size()) return 0;
    std::size_t count = std::min<std::size_t>(out.size(), bytes_.size() - static_cast<std::size_t>(offset));
    std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), count, out.begin());
    return count;
  }
  std::optional<ByteView> view() const override { return ByteView(bytes_); }

 private:
  Bytes& bytes_;
};

/// All data by path, as far as it could be read without an error.
std::map<std::string, std::string> contents_of(const SourcePtr& image, bool& opened) {
  std::map<std::string, std::string> out;
  opened = false;
  try {
    Held held = open_source(image, "image");
    if (!held.opened.container) return out;
    opened = true;
    held.context->limits.max_entries = 20'000;
    std::size_t total = 0;
    held->facts();
    for (std::size_t i = 0; i < held->entries().size() && total < kMost; ++i) {
      const Entry& entry = held->entries()[i];
      if (!entry.has_data() || entry.path.starts_with("unallocated")) continue;
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

struct DamagedImage : testing::TestWithParam<Case> {
  Bytes image;
  void SetUp() override {
    image = GetParam().make();
    if (image.empty()) GTEST_SKIP() << "this machine cannot make such an image";
  }
};

TEST_P(DamagedImage, CutAtManyPlaces) {
  bool opened = false;
  auto source = std::make_shared<Buffer>(image);
  auto whole = contents_of(source, opened);
  ASSERT_TRUE(opened);
  bool shorter = GetParam().ranges;  // a partition that is cut has fewer bytes, and that is told
  std::size_t step = std::max<std::size_t>(1, std::min(image.size(), GetParam().reach) / GetParam().rounds),
              tried = 0;
  for (std::size_t size = 0; size < image.size() && tried < GetParam().rounds; size += step, ++tried) {
    for (const auto& [path, data] : contents_of(make_slice(source, 0, size), opened)) {
      auto same = whole.find(path);
      if (same == whole.end()) continue;
      EXPECT_TRUE(shorter ? same->second.starts_with(data) : same->second == data)
          << path << " differs when cut at " << size;
    }
  }
  EXPECT_GE(tried, std::min(GetParam().rounds, image.size()) - 1);
}

TEST_P(DamagedImage, ManyBytesFlipped) {
  auto source = std::make_shared<Buffer>(image);
  std::uint32_t state = 1;
  std::size_t opens = 0;
  for (std::size_t round = 0; round < GetParam().rounds; ++round) {
    state = state * 1664525 + 1013904223;
    std::size_t at = (state >> 3) % std::min(image.size(), GetParam().reach);
    Byte before = image[at];
    image[at] ^= static_cast<Byte>(1 + (state >> 24) % 255);
    bool opened = false;
    contents_of(source, opened);
    opens += opened ? 1 : 0;
    image[at] = before;
  }
  EXPECT_GT(opens, GetParam().rounds * 3 / 10);
}

INSTANTIATE_TEST_SUITE_P(Kinds, DamagedImage, testing::ValuesIn(cases()),
                         [](const auto& each) { return each.param.name; });

}  // namespace
}  // namespace operculum

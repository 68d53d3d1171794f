// File systems written again, and from scratch: what is to change does, everything else is as it was.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <fstream>
#include <random>
#include <set>

#include "base/error.h"
#include "base/numbers.h"
#include "base/text.h"
#include "container/rewrite.h"
#include "support/disk_writer.h"
#include "support/ext_writer.h"
#include "support/fat_writer.h"
#include "support/iso_writer.h"
#include "support/kernel_mount.h"
#include "support/new_container.h"
#include "support/program.h"
#include "support/refusal.h"
#include "support/rewritten.h"
#include "support/squashfs_writer.h"
#include "support/system_tools.h"

namespace operculum::test {
namespace {

struct Image {
  std::string name;
  bool links;
  std::function<Bytes(const SampleTree&)> make;
};

Image squash(const std::string& name, const SquashOptions& options) {
  return {name, true, [options](const SampleTree& tree) { return make_squashfs(tree, options); }};
}

std::vector<Image> images() {
  return {
      squash("squashfs_zlib", {.codec = BlockCodec::zlib}),
      squash("squashfs_lzma", {.codec = BlockCodec::lzma_alone}),
      squash("squashfs_lzo", {.codec = BlockCodec::lzo}),
      squash("squashfs_xz", {.codec = BlockCodec::xz}),
      squash("squashfs_lz4", {.codec = BlockCodec::lz4}),
      squash("squashfs_zstd", {.codec = BlockCodec::zstd, .block = 8192, .fragments = false}),
      squash("squashfs_long", {.codec = BlockCodec::zlib, .block = 4096, .extended = true}),
      {"fat12", false, [](const SampleTree& tree) { return make_fat(tree, 12); }},
      {"fat16", false, [](const SampleTree& tree) { return make_fat(tree, 16); }},
      {"fat32", false, [](const SampleTree& tree) { return make_fat(tree, 32); }},
      {"iso_rock_ridge", true, [](const SampleTree& tree) { return make_iso(tree, {.joliet = false}); }},
      {"iso_both", true, [](const SampleTree& tree) { return make_iso(tree); }},
      {"iso_joliet", false, [](const SampleTree& tree) { return make_iso(tree, {.rock_ridge = false}); }},
  };
}

struct ImageRewrite : testing::TestWithParam<Image> {
  SampleTree tree() const { return GetParam().links ? sample_tree_with_links() : sample_tree(); }
};

/// Changes to a tree and to its image side by side, drawn by chance.
class Edits {
 public:
  Edits(SampleTree& tree, Rewritten& image, unsigned seed) : tree_(tree), image_(image), random_(seed) {}

  void draw(std::size_t count) {
    for (std::size_t i = 0; i < count; ++i) {
      switch (below(4)) {
        case 0:
          set();
          break;
        case 1:
          add();
          break;
        case 2:
          remove();
          break;
        default:
          rename();
      }
    }
  }

 private:
  std::size_t below(std::size_t count) { return random_() % count; }

  std::string content() {
    std::size_t size = std::size_t{1} << below(18);
    size += below(700);
    if (below(2) == 0) return std::string(size, static_cast<char>('a' + below(26)));
    return std::string(as_text(noise(size, static_cast<std::uint32_t>(random_()))));
  }

  /// A file that no edit has met yet.
  std::optional<std::size_t> some_file() {
    std::size_t start = below(tree_.size());
    for (std::size_t i = 0; i < tree_.size(); ++i) {
      std::size_t at = (start + i) % tree_.size();
      if (tree_[at].kind == EntryKind::file && met_.insert(tree_[at].path).second) return at;
    }
    return std::nullopt;
  }

  std::string some_folder() {
    std::vector<std::string> folders = {""};
    for (const SampleNode& node : tree_) {
      if (node.kind == EntryKind::folder) folders.push_back(node.path + "/");
    }
    return folders[below(folders.size())];
  }

  void set() {
    auto at = some_file();
    if (!at) return;
    std::string text = content();
    tree_[*at].data = to_bytes(text);
    image_.set(tree_[*at].path, text);
  }

  void add() {
    std::string path = fmt::format("{}new file of the tide gauge {}.txt", some_folder(), ++made_);
    std::string text = content();
    tree_.push_back({.path = path, .data = to_bytes(text)});
    met_.insert(path);
    image_.add(path, text);
  }

  void remove() {
    auto at = some_file();
    if (!at) return;
    image_.remove(tree_[*at].path);
    tree_.erase(tree_.begin() + static_cast<std::ptrdiff_t>(*at));
  }

  void rename() {
    auto at = some_file();
    if (!at) return;
    std::string path = fmt::format("{}moved {}", some_folder(), ++made_);
    image_.rename(tree_[*at].path, path);
    tree_[*at].path = path;
    met_.insert(path);
  }

  SampleTree& tree_;
  Rewritten& image_;
  std::mt19937 random_;
  std::set<std::string> met_;
  int made_ = 0;
};

TEST_P(ImageRewrite, ChangesByChanceAndNothingElse) {
  for (unsigned seed = 1; seed <= 12; ++seed) {
    SampleTree now = tree();
    Rewritten made(GetParam().make(now));
    Edits(now, made, seed).draw(1 + seed % 7);
    Held after = made.open();
    EXPECT_EQ(compare_tree(after, now), "") << "seed " << seed;
  }
}

TEST_P(ImageRewrite, WhatIsRewrittenCanBeRewritten) {
  SampleTree now = tree();
  Bytes image = GetParam().make(now);
  for (unsigned round = 1; round <= 4; ++round) {
    Rewritten made(image);
    Edits(now, made, 100 + round).draw(5);
    image = made.bytes();
  }
  Held after = open_bytes(image);
  EXPECT_EQ(compare_tree(after, now), "");
}

TEST_P(ImageRewrite, WithoutChangesIsTheSameBytes) {
  Bytes image = GetParam().make(tree());
  EXPECT_TRUE(Rewritten(image).bytes() == image);
}

std::size_t rounds_or(std::size_t usual) {
  const char* asked = std::getenv("OPERCULUM_FLIPS");
  return asked == nullptr ? usual : std::stoul(asked);
}

/// Some bits of `image` flipped, drawn by chance, half of them within its first `front` bytes.
Bytes flipped(const Bytes& image, std::size_t front, std::mt19937& random) {
  Bytes out = image;
  for (std::size_t i = 0; i <= random() % 6; ++i) {
    std::size_t most = random() % 2 == 0 ? std::min(image.size(), front) : image.size();
    out[random() % most] ^= static_cast<Byte>(1U << (random() % 8));
  }
  return out;
}

/// Damage of whatever kind ends in an error, or in an image that can be listed.
TEST_P(ImageRewrite, DamagedImagesAreRefusedOrWritten) {
  Bytes image = GetParam().make(tree());
  std::mt19937 random(7);
  std::size_t written = 0;
  for (std::size_t round = 0; round < rounds_or(25); ++round) {
    Bytes damaged = flipped(image, 70'000, random);
    if (round % 7 == 6) damaged.resize(random() % damaged.size());
    try {
      SampleTree now = tree();
      Rewritten made(damaged);
      Edits(now, made, static_cast<unsigned>(round)).draw(4);
      Held after = made.open();
      written += after->entries().empty() ? 0 : 1;
    } catch (const Error&) {
    }
  }
  EXPECT_GT(written, 0u);
}

TEST(ExtRewrite, DamagedImagesAreRefusedOrWritten) {
  Bytes image = make_ext(sample_tree(), 2 << 20);
  std::mt19937 random(11);
  std::size_t written = 0;
  for (std::size_t round = 0; round < rounds_or(60); ++round) {
    try {
      Held after = Rewritten(flipped(image, 40'000, random))
                       .set("gauge/table.csv", std::string(round * 997 % 200'000, 't'))
                       .set("crab.txt", "")
                       .open();
      written += after->entries().empty() ? 0 : 1;
    } catch (const Error&) {
    }
  }
  EXPECT_GT(written, 0u);
}

TEST(QcowRewrite, DamagedImagesAreRefusedOrWritten) {
  Bytes disk = noise(300'000), image = make_qcow2(disk);
  std::mt19937 random(13);
  std::size_t written = 0;
  for (std::size_t round = 0; round < rounds_or(60); ++round) {
    try {
      Bytes changed = disk;
      for (std::size_t i = 0; i < 3; ++i) changed[random() % changed.size()] ^= 1;
      Rewritten made(flipped(image, 400, random));
      std::string path = open_bytes(image)->entries()[0].path;
      Held after = made.set(path, as_text(changed)).open();
      written += after->entries().empty() ? 0 : 1;
    } catch (const Error&) {
    }
  }
  EXPECT_GT(written, 0u);
}

/// A path table or a folder where the volume descriptors lie would be written over them.
TEST(IsoRewrite, NothingIsWrittenOverTheDescriptors) {
  Bytes before = make_iso(sample_tree(), {.joliet = false});
  store_number(&before[16 * 2048 + 140], 4, 16);
  EXPECT_REFUSAL(Rewritten(before).set("crab.txt", "x").bytes(), Malformed,
                 "ISO 9660: a path table at sector 16, where the volume descriptors lie");
}

/// A disk of several blocks, of which the second holds nothing.
Bytes disk_with_a_hole() {
  Bytes disk = noise(5 << 20);
  std::fill(disk.begin() + (2 << 20), disk.begin() + (4 << 20), Byte{0});
  return disk;
}

/// Bytes changed within a block that is there, and in one that is not.
Bytes changed_disk(Bytes disk) {
  std::fill_n(disk.begin() + 100'000, 3'000, Byte{7});
  std::fill_n(disk.begin() + (3 << 20) - 5, 700, Byte{9});
  return disk;
}

TEST(VhdRewrite, BlocksThatAreThereAreWrittenAndOthersComeBehind) {
  Bytes disk = disk_with_a_hole(), changed = changed_disk(disk);
  for (const Bytes& image : {make_vhd(disk), NewContainer("vhd").add("d", as_text(disk)).bytes()}) {
    Held before = open_bytes(image);
    std::string path(before->entries()[0].path);
    Bytes after = Rewritten(image).set(path, as_text(changed)).bytes();
    Held open = open_bytes(after);
    EXPECT_TRUE(text_at(*open, path) == as_text(changed));
    EXPECT_TRUE(open->findings().empty()) << open->findings()[0].text;
    EXPECT_EQ(open->facts(), before->facts());
    EXPECT_LE(after.size(), image.size() + (2 << 20) + 4096);
    EXPECT_EQ(as_text(ByteView(after).last(512)), as_text(ByteView(image).last(512)));
  }
}

TEST(VhdRewrite, TheEmulatorsOwnProgramReadsWhatIsWritten) {
  NEEDS("qemu-img");
  TempFolder folder;
  Bytes disk = disk_with_a_hole(), changed = changed_disk(disk);
  folder.write("disk.raw", ByteView(disk));
  for (const char* kind : {"subformat=dynamic", "subformat=fixed"}) {
    ASSERT_EQ(
        tool("qemu-img",
             {"convert", "-O", "vpc", "-o", std::string("force_size=on,") + kind, "disk.raw", "image.vhd"},
             folder.path())
            .exit_code,
        0);
    folder.write("changed.raw", ByteView(changed));
    std::string entry(open_bytes(to_bytes(folder.read("image.vhd")), "image.vhd")->entries()[0].path);
    Ran made = test::operculum({"rebuild", "image.vhd", "--set", entry + "=changed.raw", "--into", "new.vhd"},
                               folder.path());
    ASSERT_EQ(made.exit_code, 0) << made.err;
    tool("qemu-img", {"convert", "-f", "vpc", "-O", "raw", "new.vhd", "back.raw"}, folder.path());
    EXPECT_TRUE(folder.read("back.raw") == as_text(changed)) << kind;
    std::filesystem::remove(folder.path("new.vhd"));
  }
  folder.write("small.raw", ByteView(disk));
  ASSERT_EQ(test::operculum({"pack", "small.raw", "--as", "vhd", "--method", "stored", "--into", "fixed.vhd"},
                            folder.path())
                .exit_code,
            0);
  tool("qemu-img", {"convert", "-f", "vpc", "-O", "raw", "fixed.vhd", "back.raw"}, folder.path());
  EXPECT_TRUE(folder.read("back.raw") == as_text(disk));
}

TEST(VhdRewrite, DamagedImagesAreRefusedOrWritten) {
  Bytes disk = noise(300'000), image = make_vhd(disk);
  std::mt19937 random(17);
  std::size_t written = 0;
  std::string path(open_bytes(image)->entries()[0].path);
  for (std::size_t round = 0; round < rounds_or(60); ++round) {
    try {
      Bytes changed = disk;
      for (std::size_t i = 0; i < 3; ++i) changed[random() % changed.size()] ^= 1;
      Held after = Rewritten(flipped(image, 2'000, random)).set(path, as_text(changed)).open();
      written += after->entries().empty() ? 0 : 1;
    } catch (const Error&) {
    }
  }
  EXPECT_GT(written, 0u);
}

TEST_P(ImageRewrite, MovesAFolderWithAllInIt) {
  SampleTree now = tree();
  Rewritten made(GetParam().make(now));
  std::string folder;
  for (const SampleNode& node : now) {
    if (node.kind == EntryKind::folder && node.path.find('/') == std::string::npos && folder.empty())
      folder = node.path;
  }
  ASSERT_FALSE(folder.empty());
  for (SampleNode& node : now) {
    if (node.path != folder && !node.path.starts_with(folder + "/")) continue;
    std::string to = "moved here" + node.path.substr(folder.size());
    made.rename(node.path, to);
    node.path = to;
  }
  Held after = made.open();
  EXPECT_EQ(compare_tree(after, now), "");
}

TEST_P(ImageRewrite, RemovesFoldersWithAllInThem) {
  SampleTree now = tree();
  Rewritten made(GetParam().make(now));
  auto goes = [](const SampleNode& node) {
    return node.path == "many" || node.path.starts_with("many/") || node.path.starts_with("gauge/logs");
  };
  for (const SampleNode& node : now) {
    if (goes(node)) made.remove(node.path);
  }
  std::erase_if(now, goes);
  made.add("many", "a file now");
  now.push_back({.path = "many", .data = to_bytes("a file now")});
  Held after = made.open();
  EXPECT_EQ(compare_tree(after, now), "");
}

TEST_P(ImageRewrite, KeepsTimesAndModesOfWhatIsReplaced) {
  Bytes before = GetParam().make(tree());
  Held old = open_bytes(before);
  Rewritten made(before);
  std::string path;
  for (const Entry& entry : old->entries()) {
    if (entry.kind == EntryKind::file) path = entry.path;
  }
  made.set(path, "another content");
  Held after = made.open();
  EXPECT_EQ(text_at(*after, path), "another content");
  EXPECT_EQ(entry_at(*after, path).modified, entry_at(*old, path).modified);
  EXPECT_EQ(entry_at(*after, path).mode, entry_at(*old, path).mode);
}

INSTANTIATE_TEST_SUITE_P(All, ImageRewrite, testing::ValuesIn(images()),
                         [](const auto& one) { return one.param.name; });

// ---- SquashFS by its makers' own programs

struct SquashOfMakers : testing::TestWithParam<const char*> {};

/// The files that the makers' own program takes out of an image.
std::string unpacked_by_makers(const TempFolder& folder, const std::string& image) {
  std::string out = image + ".out";
  Ran ran = tool("unsquashfs", {"-no-progress", "-no-xattrs", "-d", out, image}, folder.path());
  return ran.exit_code == 0 ? folder.path(out) : "";
}

TEST_P(SquashOfMakers, TheSameContentGivesTheSameBytes) {
  NEEDS("mksquashfs");
  TempFolder folder;
  write_tree(folder, "tree", sample_tree_with_links());
  Ran made = tool(
      "mksquashfs",
      {"tree", "image", "-noappend", "-no-progress", "-no-xattrs", "-comp", GetParam(), "-processors", "1"},
      folder.path());
  ASSERT_EQ(made.exit_code, 0) << made.out << made.err;
  Bytes before = to_bytes(folder.read("image"));
  Rewritten rewritten(before);
  rewritten.set("crab.txt", text_at(*open_bytes(before), "crab.txt"));
  EXPECT_TRUE(rewritten.bytes() == before);
  EXPECT_TRUE(rewritten.notes().empty()) << rewritten.notes()[0];
}

TEST_P(SquashOfMakers, ReadWhatIsWritten) {
  NEEDS("mksquashfs");
  TempFolder folder;
  SampleTree tree = sample_tree_with_links();
  write_tree(folder, "tree", tree);
  tool("mksquashfs", {"tree", "image", "-noappend", "-no-progress", "-b", "16384", "-comp", GetParam()},
       folder.path());
  Rewritten rewritten(to_bytes(folder.read("image")));
  Edits(tree, rewritten, 7).draw(9);
  folder.write("changed", ByteView(rewritten.bytes()));
  std::string out = unpacked_by_makers(folder, "changed");
  ASSERT_FALSE(out.empty());
  for (const SampleNode& node : tree) {
    if (node.kind != EntryKind::file) continue;
    EXPECT_EQ(to_bytes(folder.read("changed.out/" + node.path)), node.data) << node.path;
  }
}

INSTANTIATE_TEST_SUITE_P(Codecs, SquashOfMakers, testing::Values("gzip", "xz", "lzo", "lz4", "zstd"),
                         [](const auto& one) { return std::string(one.param); });

TEST(SquashRewrite, KeepsHardLinksDevicesAndAttributes) {
  SampleTree tree = sample_tree();
  Bytes before = make_squashfs(tree, {.codec = BlockCodec::zstd, .extended = true});
  Held after = Rewritten(before).set(tree.back().path, "other").open();
  Held old = open_bytes(before);
  std::size_t compared = 0;
  for (const Entry& entry : old->entries()) {
    if (!entry.extra || entry.extra->attributes.empty()) continue;
    EXPECT_EQ(entry_at(*after, entry.path).extra->attributes, entry.extra->attributes) << entry.path;
    ++compared;
  }
  EXPECT_GT(compared, 3u);
}

TEST(SquashRewrite, AnotherMethodPacksEverythingAnew) {
  SampleTree tree = sample_tree_with_links();
  Held after = Rewritten(make_squashfs(tree)).set("crab.txt", "x").method("zstd").open();
  tree[5].data = to_bytes("x");
  EXPECT_EQ(fact(*after, "packed by"), "zstd");
  EXPECT_EQ(compare_tree(after, tree), "");
}

TEST(SquashRewrite, SaysWhenAnotherEncoderMadeIt) {
  SampleTree tree = {{.path = "a.txt", .data = Bytes(40000, 'a')}, {.path = "b.txt", .data = to_bytes("b")}};
  for (std::size_t i = 0; i < 40000; ++i) tree[0].data[i] = static_cast<Byte>("tidepool"[i * i / 7 % 8]);
  Rewritten made(make_squashfs(tree, {.codec = BlockCodec::zlib, .block = 8192}));
  made.set("b.txt", "c").bytes();
  ASSERT_EQ(made.notes().size(), 1u);
  EXPECT_EQ(made.notes()[0], "b.txt: packed with zlib; the original was made by another encoder");
}

TEST(SquashRewrite, KeepsWhatStaysWhereItLay) {
  SampleTree tree = {{.path = "a", .data = noise(300000, 1)}, {.path = "b", .data = noise(300000, 2)}};
  Bytes before = make_squashfs(tree, {.fragments = false});
  Bytes after = Rewritten(before).set("b", "short").bytes();
  std::string_view data = as_text(before).substr(96, 300000);
  EXPECT_EQ(as_text(after).substr(96, 300000), data);
  EXPECT_LT(after.size(), before.size() - 290000);
}

// ---- FAT by the system's own checker

std::string checked_fat(const TempFolder& folder, const Bytes& image) {
  folder.write("image", ByteView(image));
  Ran ran = tool("fsck.fat", {"-n", "-v", "image"}, folder.path());
  return ran.exit_code == 0 ? "" : ran.out + ran.err;
}

TEST(FatRewrite, TheSystemsCheckerIsSatisfied) {
  NEEDS("fsck.fat");
  TempFolder folder;
  for (unsigned bits : {12u, 16u}) {
    for (unsigned seed = 1; seed <= 6; ++seed) {
      SampleTree tree = sample_tree();
      Rewritten made(make_fat(tree, bits));
      Edits(tree, made, seed).draw(8);
      EXPECT_EQ(checked_fat(folder, made.bytes()), "") << bits << " bits, seed " << seed;
    }
  }
}

TEST(FatRewrite, OfTheSystemsOwnMaker) {
  NEEDS("mkfs.fat");
  NEEDS("fsck.fat");
  TempFolder folder;
  folder.write("tide.txt", "low water\n");
  for (std::string bits : {"12", "16", "32"}) {
    std::string volume = "volume" + bits, made = "made" + bits;
    tool("mkfs.fat", {"-C", "-F", bits, volume, bits == "12" ? "2048" : "40960"}, folder.path());
    Ran ran = operculum({"rebuild", volume, "--add", "logs/2026/March of the gauge.txt=tide.txt", "--add",
                         "A.TXT=tide.txt", "--into", made},
                        folder.path());
    ASSERT_EQ(ran.exit_code, 0) << ran.err;
    EXPECT_EQ(tool("fsck.fat", {"-n", made}, folder.path()).exit_code, 0) << bits;
    for (const char* path : {"/logs/2026/March of the gauge.txt", "/A.TXT"})
      EXPECT_EQ(operculum({"show", made + path}, folder.path()).out, "low water\n") << bits;
  }
}

TEST(FatRewrite, AFolderGrows) {
  NEEDS("fsck.fat");
  TempFolder folder;
  SampleTree tree = {{.path = "shelf", .kind = EntryKind::folder}};
  Rewritten made(make_fat(tree, 16));
  for (int i = 0; i < 300; ++i) made.add(fmt::format("shelf/a rather long name number {}", i), "x");
  Bytes after = made.bytes();
  EXPECT_EQ(checked_fat(folder, after), "");
  EXPECT_EQ(open_bytes(after)->entries().size(), 301u);
}

void expect_refused(Rewritten& made, const std::string& part) {
  EXPECT_REFUSAL(made.bytes(), Error, part);
}

TEST(FatRewrite, RefusesWhatFatCannotHave) {
  Bytes image = make_fat({{.path = "tide.txt", .data = to_bytes("low")}}, 12);
  expect_refused(Rewritten(image).add("what?.txt", "x"), "the name \"what?.txt\" on a FAT volume");
  expect_refused(Rewritten(image).add("ends.", "x"), "the name \"ends.\" on a FAT volume");
  expect_refused(Rewritten(image).add("TIDE.TXT", "x"), "where letters' case does not count");
  expect_refused(Rewritten(image).add("large", std::string(8 << 20, 'x')),
                 "a FAT volume larger than it is: ");
}

TEST(FatRewrite, FreesWhatIsRemoved) {
  SampleTree tree = {{.path = "a", .data = noise(100000)}, {.path = "b", .data = to_bytes("b")}};
  Bytes before = make_fat(tree, 32);
  Held after = Rewritten(before).remove("a").open();
  std::string used = fact(*open_bytes(before), "used");
  EXPECT_NE(fact(*after, "used"), used);
  EXPECT_EQ(paths_of(*after), "b");
}

// ---- ext by the system's own maker and checker

struct ExtOfMakers : testing::TestWithParam<std::vector<std::string>> {};

TEST_P(ExtOfMakers, OtherContentsInTheBlocksThatAreThere) {
  NEEDS("mkfs.ext4");
  TempFolder folder;
  SampleTree tree = sample_tree_with_links();
  tree.push_back({.path = "large", .data = noise(900'000)});
  write_tree(folder, "tree", tree);
  std::vector<std::string> arguments = GetParam();
  arguments.insert(arguments.end(), {"-q", "-F", "-d", "tree", "image", "8M"});
  ASSERT_EQ(tool("mkfs.ext4", arguments, folder.path()).exit_code, 0);
  for (std::size_t size : {0u, 5000u, 2'000'000u}) {
    Rewritten made(to_bytes(folder.read("image")));
    Bytes content = noise(size, 5);
    made.set("large", as_text(content))
        .set("crab.txt", as_text(noise(size / 3, 6)))
        .set("nothing.bin", "something");
    Bytes after = made.bytes();
    folder.write("changed", ByteView(after));
    Ran checked = tool("e2fsck", {"-fn", "changed"}, folder.path());
    EXPECT_EQ(checked.exit_code, 0) << size << "\n" << checked.out;
    Held held = open_bytes(after);
    EXPECT_TRUE(held->findings().empty());
    EXPECT_EQ(text_at(*held, "large"), as_text(content)) << size;
    EXPECT_EQ(text_at(*held, "crab.txt"), as_text(noise(size / 3, 6))) << size;
    EXPECT_EQ(text_at(*held, "nothing.bin"), "something");
    EXPECT_EQ(text_at(*held, "gauge/table.csv"), as_text(tree[7].data));
  }
  Rewritten too_large(to_bytes(folder.read("image")));
  expect_refused(too_large.set("large", as_text(noise(9'000'000))), "an ext file system larger than it is: ");
}

INSTANTIATE_TEST_SUITE_P(Kinds, ExtOfMakers,
                         testing::Values(std::vector<std::string>{"-b", "1024", "-t", "ext2"},
                                         std::vector<std::string>{"-b", "4096", "-t", "ext3"},
                                         std::vector<std::string>{"-b", "1024", "-t", "ext4"},
                                         std::vector<std::string>{"-b", "4096", "-O", "64bit,metadata_csum"},
                                         std::vector<std::string>{"-b", "2048", "-O",
                                                                  "^metadata_csum,uninit_bg"}),
                         [](const auto& one) { return "kind_" + std::to_string(one.index); });

TEST(ExtRewrite, AFileInManyPieces) {
  NEEDS("mkfs.ext4");
  TempFolder folder;
  SampleTree tree;
  for (int i = 0; i < 300; ++i) tree.push_back({.path = fmt::format("f{:03}", i), .data = noise(3000)});
  write_tree(folder, "tree", tree);
  ASSERT_EQ(
      tool("mkfs.ext4", {"-q", "-F", "-b", "1024", "-d", "tree", "image", "4M"}, folder.path()).exit_code, 0);
  Rewritten holes(to_bytes(folder.read("image")));
  for (int i = 0; i < 300; i += 2) holes.set(fmt::format("f{:03}", i), "");
  Bytes with_holes = holes.bytes();
  Bytes content = noise(2'300'000, 9);
  Bytes after = Rewritten(with_holes).set("f001", as_text(content)).bytes();
  folder.write("changed", ByteView(after));
  Ran checked = tool("e2fsck", {"-fn", "changed"}, folder.path());
  EXPECT_EQ(checked.exit_code, 0) << checked.out;
  EXPECT_EQ(text_at(*open_bytes(after), "f001"), as_text(content));
}

TEST(ExtRewrite, RefusesWhatItDoesNotWrite) {
  Bytes image = make_ext(sample_tree(), 4 << 20);
  expect_refused(Rewritten(image).add("x", "x"), "adding, removing and renaming in an ext file system");
}

// ---- from scratch

std::vector<NewEntry> entries_of(const SampleTree& tree) {
  std::vector<NewEntry> out;
  for (const SampleNode& node : tree) {
    NewEntry entry;
    entry.path = node.path;
    entry.kind = node.kind;
    entry.mode = node.permissions();
    entry.modified = from_unix(node.time);
    entry.link_target = node.target;
    entry.size = node.data.size();
    if (node.kind == EntryKind::file) entry.content = make_content(make_memory_source(node.data));
    out.push_back(std::move(entry));
  }
  return out;
}

Bytes packed(const std::string& id, const SampleTree& tree, const std::string& method = "") {
  NewContainer made(id, method);
  for (NewEntry& entry : entries_of(tree)) made.add(std::move(entry));
  return made.bytes();
}

TEST(ImagePack, SquashfsOfEveryCodec) {
  SampleTree tree = sample_tree_with_links();
  for (const char* method : {"", "gzip", "lzma", "lzo", "xz", "lz4", "zstd"}) {
    Bytes image = packed("squashfs", tree, method);
    EXPECT_TRUE(image == packed("squashfs", tree, method)) << method;
    Held held = open_bytes(image);
    EXPECT_EQ(compare_tree(held, tree), "") << method;
  }
}

TEST(ImagePack, SquashfsHoldsEqualFilesOnce) {
  SampleTree tree = {{.path = "a", .data = noise(500000)}, {.path = "b", .data = noise(500000)}};
  EXPECT_LT(packed("squashfs", tree).size(), 520000u);
}

TEST(ImagePack, SquashfsIsReadByTheKernel) {
  TempFolder folder;
  SampleTree tree = sample_tree_with_links();
  folder.write("image", ByteView(packed("squashfs", tree, "zstd")));
  KernelMount mounted(folder, "image", {"-t", "squashfs", "-o", "loop,ro"});
  if (!mounted.works()) GTEST_SKIP() << mounted.why();
  for (const SampleNode& node : tree) {
    if (node.kind != EntryKind::file) continue;
    EXPECT_EQ(read_file(mounted.path() + "/" + node.path), as_text(node.data)) << node.path;
  }
}

TEST(ImagePack, FatOfEveryWidth) {
  TempFolder folder;
  SampleTree small = sample_tree(), many = sample_tree(), wide = sample_tree();
  for (int i = 0; i < 6000; ++i) many.push_back({.path = fmt::format("n{:05}", i), .data = {}});
  wide.push_back({.path = "noise", .data = noise(9 << 20)});
  for (const auto& [tree, version] : {std::pair{small, "FAT12"}, {wide, "FAT16"}, {many, "FAT32"}}) {
    Bytes image = packed("fat", tree);
    Held held = open_bytes(image);
    EXPECT_EQ(fact(*held, "version"), version);
    EXPECT_EQ(compare_tree(held, tree), "");
    if (has_tool("fsck.fat")) {
      EXPECT_EQ(checked_fat(folder, image), "") << version;
    }
  }
}

TEST(ImagePack, IsoWithBothTrees) {
  SampleTree tree = sample_tree_with_links();
  Bytes image = packed("iso9660", tree);
  EXPECT_TRUE(image == packed("iso9660", tree));
  Held held = open_bytes(image);
  EXPECT_EQ(compare_tree(held, tree), "");
  EXPECT_EQ(fact(*held, "trees"), "plain, joliet, rock-ridge");
  EXPECT_EQ(entry_at(*held, "gauge/logs").mode, 0700u);
  for (const char* view : {"joliet", "plain"}) {
    Held other = open_bytes(image, "disc", As::file, [&](OpenContext& context) { context.view = view; });
    std::size_t files = 0, bytes = 0;
    for (const Entry& entry : other->entries()) {
      files += entry.kind == EntryKind::file ? 1 : 0;
      bytes += entry.kind == EntryKind::file ? entry.size : 0;
    }
    EXPECT_GE(files, 66u) << view;
    EXPECT_GT(bytes, 130'000u) << view;
  }
}

TEST(ImagePack, IsoIsReadByItsMakersProgram) {
  NEEDS("isoinfo");
  TempFolder folder;
  SampleTree tree = sample_tree_with_links();
  folder.write("image", ByteView(packed("iso9660", tree)));
  for (const char* names : {"-R", "-J"}) {
    for (const SampleNode& node : tree) {
      if (node.kind != EntryKind::file) continue;
      Ran ran = tool("isoinfo", {"-i", "image", names, "-x", "/" + node.path}, folder.path());
      EXPECT_EQ(ran.out, as_text(node.data)) << names << " " << node.path;
    }
  }
}

TEST(ImagePack, IsoIsReadByTheKernel) {
  TempFolder folder;
  SampleTree tree = sample_tree_with_links();
  folder.write("image", ByteView(packed("iso9660", tree)));
  for (const char* options : {"loop,ro", "loop,ro,norock"}) {
    KernelMount mounted(folder, "image", {"-t", "iso9660", "-o", options});
    if (!mounted.works()) GTEST_SKIP() << mounted.why();
    for (const SampleNode& node : tree) {
      if (node.kind != EntryKind::file) continue;
      EXPECT_EQ(read_file(mounted.path() + "/" + node.path), as_text(node.data)) << node.path;
    }
  }
}

TEST(IsoRewrite, OfTheSystemsOwnMaker) {
  NEEDS("genisoimage");
  TempFolder folder;
  SampleTree tree = sample_tree_with_links();
  write_tree(folder, "tree", tree);
  ASSERT_EQ(tool("genisoimage", {"-quiet", "-R", "-J", "-o", "image", "tree"}, folder.path()).exit_code, 0);
  for (unsigned seed = 1; seed <= 6; ++seed) {
    SampleTree now = tree;
    Rewritten made(to_bytes(folder.read("image")));
    Edits(now, made, seed).draw(7);
    Bytes after = made.bytes();
    Held held = open_bytes(after);
    EXPECT_EQ(compare_tree(held, now), "") << "seed " << seed;
    Held other = open_bytes(after, "disc", As::file, [](OpenContext& context) { context.view = "joliet"; });
    for (const SampleNode& node : now) {
      if (node.kind != EntryKind::file) continue;
      EXPECT_EQ(text_at(*other, node.path), as_text(node.data)) << node.path << ", seed " << seed;
    }
  }
}

TEST(IsoRewrite, WhatStaysKeepsItsSector) {
  SampleTree tree = sample_tree();
  Bytes before = make_iso(tree);
  Rewritten made(before);
  made.set("gauge/table.csv", "short").remove("crab.txt").add("a new one", std::string(5000, 'n'));
  Bytes after = made.bytes();
  Held old = open_bytes(before), now = open_bytes(after);
  std::size_t compared = 0;
  for (const Entry& entry : old->entries()) {
    if (entry.kind != EntryKind::file || entry.path == "crab.txt" || entry.size == 0) continue;
    EXPECT_EQ(entry_at(*now, entry.path).stored_at, entry.stored_at) << entry.path;
    ++compared;
  }
  EXPECT_GT(compared, 60u);
  EXPECT_EQ(text_at(*now, "gauge/table.csv"), "short");
  EXPECT_GE(entry_at(*now, "a new one").stored_at, before.size());
}

TEST(IsoRewrite, RefusesWhatWouldNotFollow) {
  SampleTree tree = sample_tree();
  expect_refused(Rewritten(make_iso(tree, {.relocated = "gauge/logs/2026"})).add("x", "x"),
                 "folders that were moved up");
  Rewritten plain(make_iso(tree, {.rock_ridge = false, .joliet = false}));
  expect_refused(plain.add("tide.txt", "x"),
                 "the name \"tide.txt\" on a disc without Rock Ridge and Joliet; \"TIDE.TXT\" is possible");
  Held after =
      Rewritten(make_iso(tree, {.rock_ridge = false, .joliet = false})).add("TIDE.TXT", "high").open();
  EXPECT_EQ(text_at(*after, "TIDE.TXT"), "high");
}

TEST(IsoRewrite, PackedAndSparseFilesBecomePlainOnes) {
  SampleTree tree = sample_tree();
  Bytes image = make_iso(tree, {.packed = "gauge/table.csv", .in_parts = "gauge/noise.bin"});
  Held after = Rewritten(image).set("gauge/table.csv", "one").set("gauge/noise.bin", "two").open();
  EXPECT_EQ(text_at(*after, "gauge/table.csv"), "one");
  EXPECT_EQ(text_at(*after, "gauge/noise.bin"), "two");
  EXPECT_EQ(entry_at(*after, "gauge/table.csv").method, "stored");
}

}  // namespace
}  // namespace operculum::test

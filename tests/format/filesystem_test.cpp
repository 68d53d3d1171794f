// File systems written by the tests' own writers, from the specifications; images made by the system's own
// tools are in system_images_test.cpp.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>

#include "support/apfs_writer.h"
#include "support/counting_source.h"
#include "support/erofs_writer.h"
#include "support/ext_writer.h"
#include "support/fat_writer.h"
#include "support/hfs_writer.h"
#include "support/iso_writer.h"
#include "support/open.h"
#include "support/refusal.h"
#include "support/squashfs_writer.h"
#include "support/udf_writer.h"

namespace operculum {
namespace {

using namespace test;

constexpr std::size_t kDisk = 4 << 20;

struct Case {
  std::string name;
  std::string_view format;
  std::function<SampleTree()> tree;
  std::function<Bytes(const SampleTree&)> make;
  std::string extra = {};
  std::string view = {};
};

Case squash(BlockCodec codec, SquashOptions options = {}) {
  options.codec = codec;
  return {fmt::format("squashfs_{}{}{}", name_of(codec), options.fragments ? "" : "_plain",
                      options.extended ? "_long" : ""),
          "squashfs", sample_tree_with_links,
          [options](const SampleTree& tree) { return make_squashfs(tree, options); }};
}

Case udf(const std::string& name, UdfPartition partition, UdfOptions options = {}) {
  options.partition = partition;
  return {"udf_" + name, "udf", sample_tree_with_links,
          [options](const SampleTree& tree) { return make_udf(tree, options); }};
}

std::vector<Case> cases() {
  std::vector<Case> all = {
      {"ext", "ext", sample_tree_with_links, [](const SampleTree& tree) { return make_ext(tree, kDisk); }},
      {"fat12", "fat", sample_tree, [](const SampleTree& tree) { return make_fat(tree, 12); }},
      {"fat16", "fat", sample_tree, [](const SampleTree& tree) { return make_fat(tree, 16); }},
      {"fat32", "fat", sample_tree, [](const SampleTree& tree) { return make_fat(tree, 32); }},
      {"exfat", "exfat", sample_tree, [](const SampleTree& tree) { return make_exfat(tree); }},
      {"hfs", "hfsplus", sample_tree_with_links, [](const SampleTree& tree) { return make_hfs(tree); }},
      {"hfsx", "hfsplus", sample_tree_with_links,
       [](const SampleTree& tree) { return make_hfs(tree, {.extended = true}); }},
      {"apfs", "apfs", sample_tree_with_links,
       [](const SampleTree& tree) { return make_apfs({{.tree = tree, .ignores_case = true}}); }},
      {"apfs_sealed", "apfs", sample_tree_with_links,
       [](const SampleTree& tree) { return make_apfs({{.tree = tree, .sealed = true}}); }},
      {"iso_rock_ridge", "iso9660", sample_tree_with_links,
       [](const SampleTree& tree) { return make_iso(tree, {.joliet = false}); }},
      {"iso_joliet", "iso9660", sample_tree,
       [](const SampleTree& tree) { return make_iso(tree, {.rock_ridge = false}); }},
      {"iso_joliet_asked_for", "iso9660", sample_tree, [](const SampleTree& tree) { return make_iso(tree); },
       "", "joliet"},
      udf("plain", UdfPartition::plain),
      udf("plain_extents", UdfPartition::plain, {.embedded = false}),
      udf("old_entries", UdfPartition::plain, {.extended = false, .embedded = false}),
      udf("sector_512", UdfPartition::plain, {.embedded = false, .sector = 512}),
      udf("metadata", UdfPartition::metadata, {.embedded = false}),
      udf("sparable", UdfPartition::sparable),
      udf("virtual", UdfPartition::virtual_table),
  };
  for (BlockCodec codec : {BlockCodec::zlib, BlockCodec::lzma_alone, BlockCodec::lzo, BlockCodec::xz,
                           BlockCodec::lz4, BlockCodec::zstd})
    all.push_back(squash(codec));
  all.push_back(squash(BlockCodec::zstd, {.block = 8192, .fragments = false}));
  all.push_back(squash(BlockCodec::zlib, {.block = 4096, .extended = true}));
  return all;
}

struct FileSystem : testing::TestWithParam<Case> {
  Held open(Bytes image, As as = As::file) const {
    return open_bytes(std::move(image), "image", as,
                      [](OpenContext& context) { context.view = GetParam().view; });
  }
};

TEST_P(FileSystem, HoldsTheTree) {
  SampleTree tree = GetParam().tree();
  Held held = open(GetParam().make(tree));
  ASSERT_EQ(held.format(), GetParam().format);
  EXPECT_EQ(compare_tree(held, tree, GetParam().extra), "");
  Held streamed = open(GetParam().make(tree), As::stream);
  EXPECT_EQ(compare_tree(streamed, tree, GetParam().extra), "");
}

TEST_P(FileSystem, FindsAPathAsListingDoes) {
  SampleTree tree = GetParam().tree();
  Held held = open(GetParam().make(tree));
  for (const SampleNode& node : tree) {
    Lookup found = held->find(node.path);
    if (node.kind == EntryKind::folder) {
      EXPECT_EQ(found.kind, Lookup::Kind::folder) << node.path;
      EXPECT_EQ(found.path, node.path);
      continue;
    }
    ASSERT_EQ(found.kind, Lookup::Kind::entry) << node.path;
    EXPECT_EQ(found.entry->path, node.path);
    EXPECT_EQ(found.consumed, node.path.size());
    if (node.kind == EntryKind::file) {
      EXPECT_EQ(as_text(read_all(*found.open()->stream(), kDisk)), as_text(node.data)) << node.path;
    }
  }
  EXPECT_EQ(held->find("gauge/missing").kind, Lookup::Kind::nothing);
  EXPECT_EQ(held->find("crab.txt/inside").consumed, 8u);
}

TEST_P(FileSystem, GivesRandomAccess) {
  SampleTree tree = GetParam().tree();
  Held held = open(GetParam().make(tree));
  for (const SampleNode& node : tree) {
    if (node.data.size() < 1000) continue;
    SourcePtr source = held->find(node.path).open()->source();
    ASSERT_TRUE(source) << node.path;
    EXPECT_EQ(source->size(), node.data.size());
    for (std::size_t at : {node.data.size() - 100, std::size_t{0}, node.data.size() / 2}) {
      EXPECT_EQ(read_up_to(*source, at, 100),
                Bytes(node.data.begin() + static_cast<std::ptrdiff_t>(at),
                      node.data.begin() + static_cast<std::ptrdiff_t>(at + 100)))
          << node.path << " at " << at;
    }
    EXPECT_EQ(read_up_to(*source, node.data.size(), 10).size(), 0u);
  }
}

TEST_P(FileSystem, ListsPathsWithoutKeepingThem) {
  SampleTree tree = GetParam().tree();
  Held held = open(GetParam().make(tree));
  std::vector<std::string> brief, full;
  held->each(Detail::paths, [&](const Entry& entry) { brief.push_back(entry.path); });
  for (const Entry& entry : held->entries()) full.push_back(entry.path);
  EXPECT_EQ(brief, full);
}

INSTANTIATE_TEST_SUITE_P(Images, FileSystem, testing::ValuesIn(cases()),
                         [](const auto& each) { return each.param.name; });

// ---- what only some of them have

TEST(Ext, KeepsRightsTimesAndOwners) {
  SampleTree tree = {{.path = "run", .data = to_bytes("x"), .mode = 04751, .user = 1000, .group = 100}};
  Held held = open_bytes(make_ext(tree, 1 << 20));
  const Entry& entry = entry_at(*held, "run");
  EXPECT_EQ(entry.mode, 04751u);
  EXPECT_EQ(entry.extra->user_id, 1000u);
  EXPECT_EQ(entry.extra->group_id, 100u);
  EXPECT_EQ(to_text(entry.modified), "2026-03-01 14:05:08Z");
}

TEST(Ext, TellsOfAJournalThatIsNotApplied) {
  Bytes image = make_ext(sample_tree(), kDisk);
  image[1024 + 96] |= 4;  // needs recovery
  Held held = open_bytes(image);
  EXPECT_TRUE(has_finding(*held, "its journal holds changes that are not applied here"));
  EXPECT_EQ(text_at(*held, "crab.txt"), "pinch\n");
}

TEST(Ext, NamesFeaturesThatAreNotRead) {
  Bytes image = make_ext(sample_tree(), kDisk);
  image[1024 + 96] |= 1;  // compression
  EXPECT_REFUSAL(open_bytes(image), Unsupported, "Unsupported: ext feature bits 0x1 (compression)");
}

TEST(Ext, NamesWhatIsEncrypted) {
  SampleTree tree = {{.path = "sealed", .kind = EntryKind::folder},
                     {.path = "sealed/letter", .data = to_bytes("x")}};
  Bytes image = make_ext(tree, 1 << 20);
  for (std::size_t number : {11, 12})
    image[4 * 4096 + (number - 1) * 256 + 33] |= 0x08;  // the encrypted flag
  Held held = open_bytes(image);
  EXPECT_EQ(paths_of(*held), "sealed sealed/encrypted-6c6574746572");
  EXPECT_TRUE(entry_at(*held, "sealed/encrypted-6c6574746572").is(Entry::encrypted));
  EXPECT_REFUSAL(held->content(1), Unsupported, "Unsupported: files encrypted by the file system");
}

TEST(Ext, DoesNotFollowFoldersThatLeadBack) {
  SampleTree tree = {{.path = "a", .kind = EntryKind::folder}, {.path = "a/b", .kind = EntryKind::folder}};
  Bytes image = make_ext(tree, 1 << 20);
  std::size_t at =
      as_text(image).rfind(std::string_view("\x01\x02"
                                            "b",
                                            3));
  ASSERT_NE(at, std::string_view::npos);
  image[at - 6] = 2;  // the entry "b" of "a" now names the root
  Held held = open_bytes(image);
  EXPECT_EQ(paths_of(*held), "a a/b");
  EXPECT_TRUE(has_finding(*held, "leads back to a folder listed already"));
}

TEST(Ext, TellsOfAnImageThatIsCutShort) {
  Bytes image = make_ext(sample_tree(), kDisk);
  image.resize(kDisk / 2);
  Held held = open_bytes(image);
  EXPECT_TRUE(has_finding(
      *held, "the image is cut short: its file system covers 4,194,304 bytes, 2,097,152 are there"));
}

TEST(Ext, UsesTheBackupOfADamagedSuperblock) {
  Bytes image = make_ext({{.path = "crab", .data = to_bytes("pinch")}}, 130 << 20);
  Bytes super(image.begin() + 1024, image.begin() + 2048);
  std::copy(super.begin(), super.end(), image.begin() + 32768 * 4096);
  image[1024 + 56] = 0;  // the magic
  OpenContext context;
  auto formats_of = [](std::string_view id) {
    return *std::find_if(formats().begin(), formats().end(), [&](const Format& one) { return one.id == id; });
  };
  ContainerPtr container =
      formats_of("ext").open({make_content(make_memory_source(image)), "image"}, context);
  EXPECT_EQ(paths_of(*container), "crab");
  EXPECT_TRUE(has_finding(*container, "its backup at offset"));
}

struct ErofsCodec : testing::TestWithParam<BlockCodec> {};

TEST_P(ErofsCodec, DecodesItsClusters) {
  std::string table;
  for (int i = 0; i < 9000; ++i) table += fmt::format("{} cm at {}\n", i * 37 % 520, i);
  SampleTree tree = {{.path = "crab.txt", .data = to_bytes("pinch\n")},
                     {.path = "noise.bin", .data = noise(50'000)},
                     {.path = "table.csv", .data = to_bytes(table)}};
  Held held = open_bytes(make_erofs(tree, GetParam()));
  ASSERT_EQ(held.format(), "erofs");
  EXPECT_EQ(compare_tree(held, tree), "");
}

INSTANTIATE_TEST_SUITE_P(All, ErofsCodec,
                         testing::Values(BlockCodec::lz4, BlockCodec::micro_lzma, BlockCodec::deflate,
                                         BlockCodec::zstd),
                         [](const auto& each) { return std::string(name_of(each.param)); });

TEST(SquashFs, KeepsHolesAndAttributes) {
  Bytes holes(400'000);
  std::copy_n("end", 3, holes.end() - 3);
  SampleTree tree = {{.path = "hole.bin", .data = holes}, {.path = "crab", .data = to_bytes("pinch")}};
  Held held = open_bytes(make_squashfs(tree, {.extended = true}));
  EXPECT_EQ(compare_tree(held, tree), "");
  ASSERT_EQ(entry_at(*held, "crab").extra->attributes.size(), 1u);
  EXPECT_EQ(entry_at(*held, "crab").extra->attributes[0],
            std::pair(std::string("user.exhibit"), std::string("seven")));
}

TEST(Fat, ShowsDeletedFilesOnRequest) {
  SampleTree tree = {{.path = "kept.txt", .data = to_bytes("here")},
                     {.path = "gone.txt", .data = to_bytes("still readable")}};
  Bytes image = make_fat(tree, 16);
  std::size_t root = 0;
  for (std::size_t at = 0; at + 32 <= image.size() && root == 0; at += 32) {
    if (as_text(image).substr(at, 11) == "FILE0002   ") root = at;
  }
  ASSERT_NE(root, 0u);
  image[root] = image[root - 32] = 0xE5;
  EXPECT_EQ(paths_of(*open_bytes(image)), "kept.txt");
  Held held =
      open_bytes(image, "image", As::file, [](OpenContext& context) { context.view = "with-deleted"; });
  EXPECT_EQ(paths_of(*held), "kept.txt _ILE0002");
  EXPECT_EQ(text_at(*held, "_ILE0002"), "still readable");
  EXPECT_TRUE(entry_at(*held, "_ILE0002").is(Entry::recovered));
}

TEST(Fat, ReadsShortNamesInTheEncodingAskedFor) {
  Bytes image = make_fat({{.path = "x", .data = to_bytes("1")}}, 12);
  std::size_t at = as_text(image).find("FILE0001");
  image[at - 32] = 0xE5;  // without its long name
  image[at] = 0x82;       // e with acute accent in CP437
  image[at + 12] = 0x08;
  EXPECT_EQ(paths_of(*open_bytes(image)), "\xc3\xa9ile0001");
  Held other =
      open_bytes(image, "image", As::file, [](OpenContext& context) { context.names_in = "CP1251"; });
  EXPECT_EQ(paths_of(*other), "\xe2\x80\x9aile0001");
}

TEST(Fat, FindsNamesWhateverTheirCase) {
  Held held = open_bytes(make_fat(sample_tree(), 16));
  EXPECT_EQ(held->find("GAUGE/Table.CSV").entry->path, "gauge/table.csv");
}

TEST(Fat, TellsOfAChainWithALoop) {
  Bytes image = make_fat({{.path = "f", .data = noise(5000)}}, 16);
  std::size_t table = 512;
  image[table + 2 * 5] = 3;  // the second cluster leads back to the first
  image[table + 2 * 5 + 1] = 0;
  Held held = open_bytes(image);
  EXPECT_EQ(text_at(*held, "f").size(), 5000u);  // as long as its size says: the loop is not followed further
  EXPECT_TRUE(has_finding(*held, "allocation tables differ"));
}

TEST(Exfat, UsesTheBackupOfADamagedBootSector) {
  Bytes image = make_exfat(sample_tree());
  for (std::size_t i = 64; i < 120; ++i) image[i] = 0;
  Held held = open_bytes(image);
  EXPECT_EQ(held.format(), "exfat");
  EXPECT_TRUE(has_finding(*held, "its backup was used"));
  EXPECT_EQ(text_at(*held, "crab.txt"), "pinch\n");
}

TEST(Hfs, ShowsForksLinksAndPackedFiles) {
  SampleTree tree = sample_tree();
  tree.push_back({.path = "second name", .data = to_bytes("pinch\n")});
  HfsOptions options{.resource = "gauge/run",
                     .hard_link = "second name",
                     .link_of = "crab.txt",
                     .packed_kept = "gauge/logs/2026/high water at the northern mole.txt",
                     .packed_fork = "gauge/noise.bin",
                     .attributed = "crab.txt"};
  Held held = open_bytes(make_hfs(tree, options));
  EXPECT_EQ(text_at(*held, "gauge/run:rsrc"), "fork of run");
  EXPECT_EQ(text_at(*held, options.packed_kept), "4.97 m\n");
  EXPECT_EQ(entry_at(*held, options.packed_kept).method, "zlib");
  EXPECT_EQ(text_at(*held, "gauge/noise.bin"), as_text(tree[9].data));
  EXPECT_EQ(text_at(*held, "crab.txt"), "pinch\n");
  EXPECT_EQ(entry_at(*held, "second name").kind, EntryKind::hard_link);
  EXPECT_EQ(entry_at(*held, "second name").link_target(), "crab.txt");
  EXPECT_EQ(entry_at(*held, "crab.txt").extra->attributes,
            (std::vector<std::pair<std::string, std::string>>{{"user.exhibit", "seven"}}));
}

TEST(Hfs, FindsNamesWhateverTheirCaseButForTheKindThatTellsThemApart) {
  EXPECT_EQ(open_bytes(make_hfs(sample_tree()))->find("GAUGE/Run").kind, Lookup::Kind::entry);
  EXPECT_EQ(open_bytes(make_hfs(sample_tree(), {.extended = true}))->find("GAUGE/Run").kind,
            Lookup::Kind::nothing);
}

TEST(Hfs, FollowsExtentsBeyondTheRecord) {
  SampleTree tree = {{.path = "scattered", .data = noise(90'000)}};
  Held held = open_bytes(make_hfs(tree, {.scattered = "scattered"}));
  EXPECT_EQ(compare_tree(held, tree), "");
}

TEST(Hfs, UsesTheBackupHeader) {
  Bytes image = make_hfs(sample_tree());
  image[1024 + 40] = 0xFF;  // a block size that makes no sense
  OpenContext context;
  auto hfs =
      std::find_if(formats().begin(), formats().end(), [](const Format& one) { return one.id == "hfsplus"; });
  ContainerPtr container = hfs->open({make_content(make_memory_source(image)), "image"}, context);
  EXPECT_EQ(text_at(*container, "crab.txt"), "pinch\n");
  EXPECT_TRUE(has_finding(*container, "its backup at the end was used"));
}

TEST(Iso, ShowsEveryTreeOnRequest) {
  SampleTree tree = sample_tree_with_links();
  Bytes image = make_iso(tree);
  auto paths = [&](const std::string& view) {
    Held held = open_bytes(image, "disc.iso", As::file, [&](OpenContext& context) { context.view = view; });
    return paths_of(*held);
  };
  EXPECT_NE(paths("").find("latest"), std::string::npos);
  EXPECT_EQ(paths("joliet").find("latest"), std::string::npos);
  EXPECT_NE(paths("joliet").find("crab.txt"), std::string::npos);
  EXPECT_NE(paths("plain").find("N00005.BIN"), std::string::npos);
  Held plain = open_bytes(make_iso(tree, {.rock_ridge = false, .joliet = false}), "disc.iso");
  EXPECT_EQ(text_at(*plain, "N00005.BIN"), "pinch\n");
}

TEST(Iso, KeepsLongNamesRightsAndLinks) {
  SampleTree tree = {{.path = std::string(230, 'n') + ".txt",
                      .data = to_bytes("long"),
                      .mode = 0751,
                      .user = 12,
                      .group = 34},
                     {.path = "up", .kind = EntryKind::symbolic_link, .target = "/opt/../srv/./x"}};
  Held held = open_bytes(make_iso(tree), "disc.iso");
  EXPECT_EQ(compare_tree(held, tree), "");
  EXPECT_EQ(held->entries()[0].mode, 0751u);
  EXPECT_EQ(held->entries()[0].extra->user_id, 12u);
  EXPECT_EQ(to_text(held->entries()[0].modified), "2026-03-01 14:05:08Z");
}

TEST(Iso, ReadsFilesInPartsPackedSparseAndFoldersMoved) {
  Bytes holes(300'000);
  std::copy_n("end", 3, holes.end() - 3);
  SampleTree tree = sample_tree();
  tree.push_back({.path = "hole.bin", .data = holes});
  IsoOptions options{.packed = "gauge/table.csv",
                     .in_parts = "gauge/noise.bin",
                     .sparse = "hole.bin",
                     .relocated = "gauge/logs/2026"};
  Held held = open_bytes(make_iso(tree, options), "disc.iso");
  EXPECT_EQ(compare_tree(held, tree), "");
  EXPECT_EQ(entry_at(*held, "gauge/table.csv").method, "zlib");
  EXPECT_TRUE(entry_at(*held, "hole.bin").is(Entry::sparse));
}

TEST(Iso, ShowsBootImagesAsEntries) {
  Bytes boot = make_fat({{.path = "loader.cfg", .data = to_bytes("timeout 3\n")}}, 12);
  Held held = open_bytes(make_iso({{.path = "a", .data = to_bytes("x")}}, {.boot = boot}), "disc.iso");
  EXPECT_EQ(paths_of(*held), "[boot] a [boot]/1-x86.img");
  Held inner = open_bytes(to_bytes(text_at(*held, "[boot]/1-x86.img")));
  EXPECT_EQ(text_at(*inner, "loader.cfg"), "timeout 3\n");
}

TEST(Iso, LooksUpFoldersInThePathTableWhenTheirParentIsDamaged) {
  Bytes image = make_iso(sample_tree(), {.joliet = false});
  std::size_t root = 0;
  for (int i = 0; i < 4; ++i)
    root |= std::size_t{image[16 * 2048 + 158 + static_cast<std::size_t>(i)]} << (8 * i);
  for (std::size_t i = 0; i < 2048; ++i) image[root * 2048 + i] = 0xFF;
  Held held = open_bytes(image, "disc.iso");
  EXPECT_NE(paths_of(*held).find("N00000"), std::string::npos);
  EXPECT_TRUE(has_finding(*held, "looked up in the path table"));
}

TEST(Iso, ShowsTheLastOfSeveralSessions) {
  Bytes first = make_iso({{.path = "old.txt", .data = to_bytes("1")}}, {.joliet = false});
  first.resize((first.size() + 32767) / 32768 * 32768);
  Bytes second = make_iso({{.path = "new.txt", .data = to_bytes("2")}}, {.joliet = false});
  std::size_t shift = first.size() / 2048;
  Canvas moved(second);  // extents count from the disc's start
  auto add = [&](std::size_t at) {
    std::uint32_t value = 0;
    for (std::size_t i = 0; i < 4; ++i) value |= static_cast<std::uint32_t>(moved[at + i]) << (8 * i);
    moved.u32(at, value + shift);
  };
  add(16 * 2048 + 158);
  std::size_t root = 20 + 3 + 16;  // where the writer puts it
  for (std::size_t at = root * 2048; moved[at] != 0; at += moved[at]) add(at + 2);
  moved.u32(16 * 2048 + 80, shift + second.size() / 2048);
  Bytes disc = first, last = moved.take();
  disc.insert(disc.end(), last.begin(), last.end());
  Held held = open_bytes(disc, "disc.iso");
  EXPECT_EQ(paths_of(*held), "new.txt");
  EXPECT_EQ(text_at(*held, "new.txt"), "2");
  Held old =
      open_bytes(disc, "disc.iso", As::file, [](OpenContext& context) { context.view = "first-session"; });
  EXPECT_EQ(text_at(*old, "old.txt"), "1");
}

TEST(Udf, WinsOnBridgeDiscsUnlessRockRidgeTellsMore) {
  SampleTree tree = {{.path = "in udf.txt", .data = to_bytes("u")}};
  SampleTree other = {{.path = "in iso.txt", .data = to_bytes("i")}};
  Bytes bridge = make_udf(tree, {.base = make_iso(other, {.rock_ridge = false})});
  Held held = open_bytes(bridge, "disc.iso");
  EXPECT_EQ(held.format(), "udf");
  EXPECT_EQ(paths_of(*held), "in udf.txt");
  Held joliet =
      open_bytes(bridge, "disc.iso", As::file, [](OpenContext& context) { context.view = "joliet"; });
  EXPECT_EQ(paths_of(*joliet), "in iso.txt");
  Bytes ridge = make_udf(tree, {.base = make_iso(other)});
  EXPECT_EQ(open_bytes(ridge, "disc.iso").format(), "iso9660");
  Held asked = open_bytes(ridge, "disc.iso", As::file, [](OpenContext& context) { context.view = "udf"; });
  EXPECT_EQ(paths_of(*asked), "in udf.txt");
}

/// One name of a large folder is found by the names; of it alone the rest is read.
TEST(LargeFolder, OneNameIsFoundWithoutReadingTheOthersInodes) {
  SampleTree tree = {{.path = "many", .kind = EntryKind::folder}};
  for (int i = 0; i < 3'000; ++i)
    tree.push_back({.path = fmt::format("many/file number {}", i), .data = to_bytes("x")});
  for (const auto& [name, image] :
       {std::pair{"ext", make_ext(tree, 16 << 20)},
        std::pair{"squashfs", make_squashfs(tree, {.codec = BlockCodec::zlib, .extended = true})}}) {
    auto source = std::make_shared<CountingSource>(image);
    Held held = open_source(source);
    std::uint64_t before = source->given;
    Lookup found = held->find("many/file number 2718");
    ASSERT_EQ(found.kind, Lookup::Kind::entry) << name;
    EXPECT_EQ(found.entry->size, 1u);
    EXPECT_LT(source->given - before, 400'000u) << name;  // the folder alone, not 3,000 inodes
  }
}

}  // namespace
}  // namespace operculum

// Images that the operating system's own tools make, and images of ours that the kernel mounts: witnesses
// that know nothing of this program. What a machine cannot do is skipped with a message.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>

#include "io/file_source.h"
#include "support/byte_writer.h"
#include "support/disk_writer.h"
#include "support/ext_writer.h"
#include "support/iso_writer.h"
#include "support/kernel_mount.h"
#include "support/lzx_writer.h"
#include "support/open.h"
#include "support/program.h"
#include "support/refusal.h"
#include "support/sample_tree.h"
#include "support/squashfs_writer.h"
#include "support/system_tools.h"
#include "support/temp_folder.h"
#include "support/xpress_writer.h"

namespace operculum {
namespace {

using namespace test;

SampleTree tree_for_tools() {
  SampleTree tree = sample_tree_with_links();
  Bytes hole(3 << 20);
  std::copy_n("end", 3, hole.end() - 3);
  tree.push_back({.path = "hole.bin", .data = hole});
  tree.push_back({.path = "tiny", .data = to_bytes("x")});
  tree.push_back({.path = "large.bin", .data = noise(2'500'000, 3)});
  return tree;
}

// ---- made by the system's tools

struct ToolCase {
  std::string name;
  std::vector<std::string> options;
};

struct ExtOptions : testing::TestWithParam<ToolCase> {};

TEST_P(ExtOptions, HoldsTheTree) {
  NEEDS("mkfs.ext4");
  TempFolder folder;
  SampleTree tree = tree_for_tools();
  write_tree(folder, "tree", tree);
  setxattr(folder.path("tree/crab.txt").c_str(), "user.exhibit", "seven", 5, 0);
  tree.push_back({.path = "second", .kind = EntryKind::hard_link, .target = "crab.txt"});
  std::filesystem::create_hard_link(folder.path("tree/crab.txt"), folder.path("tree/second"));
  std::vector<std::string> arguments = {"-q", "-F", "-L", "gauge", "-d", "tree"};
  arguments.insert(arguments.end(), GetParam().options.begin(), GetParam().options.end());
  arguments.insert(arguments.end(), {"image", "64M"});
  Ran made = tool("mkfs.ext4", arguments, folder.path());
  ASSERT_EQ(made.exit_code, 0) << made.err;
  Held held = open_path(folder.path("image"));
  ASSERT_EQ(held.format(), "ext");
  bool crab_first = false;  // which of two names comes first is the folder's order
  for (const Entry& entry : held->entries()) {
    if (entry.path == "crab.txt") crab_first = entry.kind == EntryKind::file;
  }
  if (!crab_first) {
    tree.back() = {.path = "second", .data = to_bytes("pinch\n")};
    for (SampleNode& node : tree) {
      if (node.path == "crab.txt")
        node = {.path = "crab.txt", .kind = EntryKind::hard_link, .target = "second"};
    }
  }
  EXPECT_EQ(compare_tree(held, tree, "lost+found"), "");
  EXPECT_EQ(fact(*held, "label"), "gauge");
  EXPECT_EQ(entry_at(*held, "gauge/run").mode, 0755u);
  std::string name = crab_first ? "crab.txt" : "second";
  const auto& attributes = entry_at(*held, name).extra->attributes;
  struct stat status {};
  stat(folder.path("tree/crab.txt").c_str(), &status);
  EXPECT_EQ(entry_at(*held, name).modified.seconds, status.st_mtim.tv_sec);
  if (!attributes.empty()) {
    EXPECT_EQ(attributes[0], std::pair(std::string("user.exhibit"), std::string("seven")));
  }
}

INSTANTIATE_TEST_SUITE_P(Sets, ExtOptions,
                         testing::Values(ToolCase{"defaults", {}}, ToolCase{"ext2", {"-t", "ext2"}},
                                         ToolCase{"ext3", {"-t", "ext3"}},
                                         ToolCase{"without_checksums", {"-O", "^metadata_csum,^64bit"}},
                                         ToolCase{"group_checksums", {"-O", "^metadata_csum,uninit_bg"}},
                                         ToolCase{"block_1024", {"-b", "1024"}},
                                         ToolCase{"block_2048", {"-b", "2048"}},
                                         ToolCase{"block_4096", {"-b", "4096"}},
                                         ToolCase{"block_map_1024", {"-O", "^extents,^64bit", "-b", "1024"}},
                                         ToolCase{"inline_data", {"-O", "inline_data"}},
                                         ToolCase{"meta_groups", {"-O", "meta_bg,^resize_inode"}},
                                         ToolCase{"clusters", {"-O", "bigalloc"}},
                                         ToolCase{"clusters_4096", {"-O", "bigalloc", "-b", "4096"}},
                                         ToolCase{"large_attributes", {"-O", "ea_inode"}},
                                         ToolCase{"case_folding", {"-O", "casefold,encrypt"}},
                                         ToolCase{"inode_128", {"-I", "128"}},
                                         ToolCase{"inode_1024", {"-I", "1024"}},
                                         ToolCase{"no_journal_no_flex", {"-O", "^has_journal,^flex_bg"}},
                                         ToolCase{"seeded", {"-O", "metadata_csum_seed"}},
                                         ToolCase{"sparse_super2", {"-O", "sparse_super2"}}),
                         [](const auto& each) { return each.param.name; });

/// Most with lz4: its slow form takes the maker's program seconds and is the same format.
struct ErofsOptions : testing::TestWithParam<ToolCase> {};

TEST_P(ErofsOptions, HoldsTheTree) {
  NEEDS("mkfs.erofs");
  TempFolder folder;
  SampleTree tree = tree_for_tools();
  write_tree(folder, "tree", tree);
  setxattr(folder.path("tree/crab.txt").c_str(), "user.exhibit", "seven", 5, 0);
  std::vector<std::string> arguments = GetParam().options;
  arguments.insert(arguments.end(), {"image", "tree"});
  Ran made = tool("mkfs.erofs", arguments, folder.path());
  if (made.exit_code != 0) GTEST_SKIP() << "this mkfs.erofs lacks " << GetParam().name << ": " << made.err;
  Held held = open_path(folder.path("image"));
  ASSERT_EQ(held.format(), "erofs");
  EXPECT_EQ(compare_tree(held, tree), "");
  EXPECT_EQ(entry_at(*held, "gauge/run").mode, 0755u);
}

INSTANTIATE_TEST_SUITE_P(
    Sets, ErofsOptions,
    testing::Values(ToolCase{"plain", {}}, ToolCase{"lz4", {"-zlz4"}}, ToolCase{"lz4hc", {"-zlz4hc,9"}},
                    ToolCase{"big_clusters", {"-zlz4", "-C65536"}},
                    ToolCase{"inline_ends", {"-zlz4", "-Eztailpacking"}},
                    ToolCase{"fragments", {"-zlz4", "-Efragments", "-C65536"}},
                    ToolCase{"all_fragments", {"-zlz4", "-Eall-fragments"}},
                    ToolCase{"legacy", {"-zlz4", "-Elegacy-compress"}},
                    ToolCase{"legacy_fragments", {"-zlz4", "-Efragments,legacy-compress", "-C16384"}},
                    ToolCase{"dedupe", {"-zlz4", "-Ededupe", "-C65536"}},
                    ToolCase{"compact_inodes", {"-Eforce-inode-compact"}},
                    ToolCase{"chunks", {"--chunksize=4096"}},
                    ToolCase{"chunk_indexes", {"--chunksize=65536", "-Eforce-chunk-indexes"}},
                    ToolCase{"no_inline", {"-zlz4", "-Enoinline_data"}}, ToolCase{"lzma", {"-zlzma"}},
                    ToolCase{"deflate", {"-zdeflate"}}, ToolCase{"zstd", {"-zzstd"}}),
    [](const auto& each) { return each.param.name; });

TEST(SystemTools, CramfsHoldsTheTree) {
  NEEDS("mkfs.cramfs");
  for (const char* order : {"little", "big"}) {
    TempFolder folder;
    SampleTree tree = sample_tree_with_links();
    tree.push_back({.path = "hole.bin", .data = Bytes(100'000)});
    write_tree(folder, "tree", tree);
    Ran made = tool("mkfs.cramfs", {"-n", "gauge", "-N", order, "tree", "image"}, folder.path());
    ASSERT_EQ(made.exit_code, 0) << made.err;
    Held held = open_path(folder.path("image"));
    ASSERT_EQ(held.format(), "cramfs");
    EXPECT_EQ(compare_tree(held, tree), "") << order;
    EXPECT_EQ(fact(*held, "label"), "gauge");
  }
}

TEST(SystemTools, RomfsHoldsTheTree) {
  NEEDS("genromfs");
  TempFolder folder;
  SampleTree tree = sample_tree_with_links();
  write_tree(folder, "tree", tree);
  Ran made = tool("genromfs", {"-f", "image", "-d", "tree", "-V", "gauge"}, folder.path());
  ASSERT_EQ(made.exit_code, 0) << made.err;
  Held held = open_path(folder.path("image"));
  ASSERT_EQ(held.format(), "romfs");
  EXPECT_EQ(compare_tree(held, tree), "");
}

struct EmptyVolume
    : testing::TestWithParam<std::tuple<const char*, const char*, std::vector<std::string>, const char*>> {};

TEST_P(EmptyVolume, IsRecognisedWithItsLabel) {
  const auto& [program, format, arguments, label] = GetParam();
  NEEDS(program);
  TempFolder folder;
  std::ofstream(folder.path("image")).close();
  std::filesystem::resize_file(folder.path("image"), 64 << 20);
  Ran made = tool(program, arguments, folder.path());
  ASSERT_EQ(made.exit_code, 0) << made.err;
  Held held = open_path(folder.path("image"));
  EXPECT_EQ(held.format(), format);
  EXPECT_EQ(fact(*held, "label"), label);
  EXPECT_NE(fact(*held, "free"), "");
  for (const Finding& finding : held->findings())
    EXPECT_NE(finding.level, Finding::Level::fault) << finding.text;
}

using V = std::vector<std::string>;
INSTANTIATE_TEST_SUITE_P(
    Tools, EmptyVolume,
    testing::Values(std::tuple("mkfs.fat", "fat", V{"-n", "GAUGE", "image"}, "GAUGE"),
                    std::tuple("mkfs.fat", "fat", V{"-F", "32", "-n", "GAUGE", "image"}, "GAUGE"),
                    std::tuple("mkfs.fat", "fat", V{"-F", "12", "-s", "64", "-n", "GAUGE", "image"}, "GAUGE"),
                    std::tuple("mkfs.exfat", "exfat", V{"-L", "gauge", "image"}, "gauge"),
                    std::tuple("mkfs.ntfs", "ntfs", V{"-q", "-F", "-L", "gauge", "image"}, "gauge"),
                    std::tuple("mkfs.udf", "udf", V{"-b", "2048", "-l", "gauge", "image"}, "gauge"),
                    std::tuple("mkfs.udf", "udf", V{"-b", "512", "-r", "1.02", "-l", "gauge", "image"},
                               "gauge"),
                    std::tuple("mkfs.udf", "udf",
                               V{"--media-type=cdrw", "-b", "2048", "-l", "gauge", "image"}, "gauge")));

TEST(SystemTools, PartitionsAreWhereTheyWerePut) {
  NEEDS("sfdisk");
  for (const char* label : {"gpt", "dos"}) {
    TempFolder folder;
    std::ofstream(folder.path("disk")).close();
    std::filesystem::resize_file(folder.path("disk"), 64 << 20);
    bool gpt = std::string(label) == "gpt";
    std::string script = fmt::format(
        "label: {}\nstart=2048, size=8192{}\nstart=20480, size=16384\nstart=40960, size=32768{}\n{}", label,
        gpt ? ", name=\"tide gauge\"" : "", gpt ? "" : ", type=5",
        gpt ? "" : "start=43008, size=4096\nstart=49152, size=4096\n");
    Ran made =
        run("sfdisk", {"-q", "disk"}, folder.path(), {{"PATH", "/usr/sbin:/usr/bin:/sbin:/bin"}}, script);
    ASSERT_EQ(made.exit_code, 0) << made.err;
    Held held = open_path(folder.path("disk"));
    ASSERT_EQ(held.format(), gpt ? "gpt" : "mbr");
    EXPECT_EQ(entry_at(*held, "1").stored_at, 2048u * 512);
    EXPECT_EQ(entry_at(*held, "1").size, 8192u * 512);
    EXPECT_EQ(entry_at(*held, "2").stored_at, 20480u * 512);
    if (gpt) {
      EXPECT_EQ(entry_at(*held, "1").extra->comment, "tide gauge");
      EXPECT_EQ(entry_at(*held, "3").size, 32768u * 512);
    } else {
      EXPECT_EQ(entry_at(*held, "5").stored_at, 43008u * 512);
      EXPECT_EQ(entry_at(*held, "6").stored_at, 49152u * 512);
    }
    for (const Finding& finding : held->findings())
      EXPECT_EQ(finding.level, Finding::Level::note) << finding.text;
  }
}

TEST(SystemTools, NtfsIsReadByItsMirrorWhenTheTableIsDamaged) {
  NEEDS("mkfs.ntfs");
  TempFolder folder;
  std::ofstream(folder.path("image")).close();
  std::filesystem::resize_file(folder.path("image"), 8 << 20);
  ASSERT_EQ(tool("mkfs.ntfs", {"-q", "-F", "-L", "gauge", "image"}, folder.path()).exit_code, 0);
  std::uint64_t table = 0;
  {
    std::fstream file(folder.path("image"), std::ios::binary | std::ios::in | std::ios::out);
    char head[512];
    file.read(head, sizeof head);
    for (int i = 0; i < 8; ++i) table |= std::uint64_t{static_cast<unsigned char>(head[48 + i])} << (8 * i);
    table *= static_cast<unsigned char>(head[13]) * 512U;
    file.seekp(static_cast<std::streamoff>(table));
    file.write("BAAD", 4);
  }
  Held held = open_path(folder.path("image"), "with-system");
  ASSERT_EQ(held.format(), "ntfs");
  EXPECT_EQ(fact(*held, "label"), "gauge");
  EXPECT_TRUE(has_finding(*held, "its mirror was used"));
  EXPECT_EQ(entry_at(*held, "$Bitmap").kind, EntryKind::file);
}

// ---- mounted by the kernel

std::string differences(const std::string& mounted, const SampleTree& tree) {
  std::string wrong;
  for (const SampleNode& node : tree) {
    std::filesystem::path path = mounted + "/" + node.path;
    std::error_code error;
    auto status = std::filesystem::symlink_status(path, error);
    bool right = node.kind == EntryKind::folder ? std::filesystem::is_directory(status)
                 : node.kind == EntryKind::file ? std::filesystem::is_regular_file(status)
                                                : std::filesystem::is_symlink(status);
    if (!right) {
      wrong += node.path + ": missing or of another kind\n";
      continue;
    }
    if (node.kind == EntryKind::symbolic_link && std::filesystem::read_symlink(path, error) != node.target)
      wrong += node.path + ": other target\n";
    if (node.kind != EntryKind::file) continue;
    if (read_file(path) != as_text(node.data)) wrong += node.path + ": other data\n";
  }
  return wrong;
}

struct SquashCodec : testing::TestWithParam<BlockCodec> {};

TEST_P(SquashCodec, OfOurWriterIsReadByTheKernel) {
  if (geteuid() != 0) GTEST_SKIP() << "only root may mount";
  TempFolder folder;
  SampleTree tree = sample_tree_with_links();
  for (bool extended : {false, true}) {
    folder.write(
        "image",
        ByteView(make_squashfs(
            tree, {.codec = GetParam(), .block = extended ? 16384U : 131072U, .extended = extended})));
    KernelMount mounted(folder, "image", {"-t", "squashfs", "-o", "loop,ro"});
    if (!mounted.works()) GTEST_SKIP() << "this kernel does not mount it: " << mounted.why();
    EXPECT_EQ(differences(mounted.path(), tree), "");
  }
}

INSTANTIATE_TEST_SUITE_P(Codecs, SquashCodec,
                         testing::Values(BlockCodec::zlib, BlockCodec::lzo, BlockCodec::xz, BlockCodec::lz4,
                                         BlockCodec::zstd),
                         [](const auto& each) { return std::string(name_of(each.param)); });

TEST(KernelMounts, TheExtWritersImage) {
  if (geteuid() != 0) GTEST_SKIP() << "only root may mount";
  TempFolder folder;
  SampleTree tree = sample_tree_with_links();
  folder.write("image", ByteView(make_ext(tree, 4 << 20)));
  KernelMount mounted(folder, "image", {"-t", "ext4", "-o", "loop,ro"});
  if (!mounted.works()) GTEST_SKIP() << "this kernel does not mount it: " << mounted.why();
  EXPECT_EQ(differences(mounted.path(), tree), "");
}

TEST(KernelMounts, WhatWasWrittenThroughExt4IsRead) {
  if (geteuid() != 0) GTEST_SKIP() << "only root may mount";
  NEEDS("mkfs.ext4");
  TempFolder folder;
  ASSERT_EQ(tool("mkfs.ext4", {"-q", "-F", "image", "64M"}, folder.path()).exit_code, 0);
  SampleTree tree = tree_for_tools();
  for (int i = 0; i < 3000; ++i)
    tree.push_back({.path = fmt::format("many/indexed {:05}", i), .data = to_bytes("i")});
  {
    KernelMount mounted(folder, "image", {"-t", "ext4", "-o", "loop"});
    if (!mounted.works()) GTEST_SKIP() << "this kernel does not mount it: " << mounted.why();
    TempFolder source;
    write_tree(source, "tree", tree);
    ASSERT_EQ(tool("cp", {"-a", source.path("tree") + "/.", mounted.path()}, folder.path()).exit_code, 0);
  }
  Held held = open_path(folder.path("image"));
  EXPECT_EQ(compare_tree(held, tree, "lost+found"), "");
}

TEST(KernelMounts, WhatWasWrittenThroughNtfsIsRead) {
  if (geteuid() != 0) GTEST_SKIP() << "only root may mount";
  NEEDS("mkfs.ntfs");
  TempFolder folder;
  std::ofstream(folder.path("image")).close();
  std::filesystem::resize_file(folder.path("image"), 48 << 20);
  ASSERT_EQ(tool("mkfs.ntfs", {"-q", "-F", "-L", "gauge", "image"}, folder.path()).exit_code, 0);
  SampleTree tree = tree_for_tools();
  for (int i = 0; i < 400; ++i)
    tree.push_back({.path = fmt::format("many/indexed {:05}", i), .data = to_bytes("i")});
  std::string table;
  for (int i = 0; i < 40'000; ++i) table += fmt::format("{} cm at {}\n", i * 37 % 520, i);
  SampleTree packed = {{.path = "packed", .kind = EntryKind::folder},
                       {.path = "packed/table.txt", .data = to_bytes(table)},
                       {.path = "packed/noise", .data = noise(150'000)}};
  {
    KernelMount mounted(folder, "image", {"-t", "ntfs-3g", "-o", "loop,compression,streams_interface=xattr"});
    if (!mounted.works()) GTEST_SKIP() << "this machine does not mount it: " << mounted.why();
    TempFolder source;
    write_tree(source, "tree", tree);
    ASSERT_EQ(tool("cp", {"-r", "--sparse=always", source.path("tree") + "/.", mounted.path()}, folder.path())
                  .exit_code,
              0);
    std::filesystem::create_directory(mounted.path() + "/packed");
    const unsigned char kCompressed[] = {0, 0, 8, 0x10};
    ASSERT_EQ(setxattr((mounted.path() + "/packed").c_str(), "system.ntfs_attrib_be", kCompressed, 4, 0), 0);
    write_tree(source, "more", packed);
    ASSERT_EQ(tool("cp", {"-r", source.path("more") + "/packed/.", mounted.path() + "/packed"}, folder.path())
                  .exit_code,
              0);
    ASSERT_EQ(setxattr((mounted.path() + "/crab.txt").c_str(), "user.note", "in a stream", 11, 0), 0);
    std::filesystem::create_hard_link(mounted.path() + "/tiny", mounted.path() + "/tiny too");
  }
  tree.insert(tree.end(), packed.begin(), packed.end());
  tree.push_back({.path = "crab.txt:note", .data = to_bytes("in a stream")});
  tree.push_back({.path = "tiny too", .kind = EntryKind::hard_link, .target = "tiny"});
  Held held = open_path(folder.path("image"));
  ASSERT_EQ(held.format(), "ntfs");
  EXPECT_EQ(compare_tree(held, tree), "");
  EXPECT_EQ(entry_at(*held, "packed/table.txt").method, "lznt1");
  EXPECT_LT(entry_at(*held, "packed/table.txt").stored_size, table.size());
  EXPECT_TRUE(entry_at(*held, "hole.bin").is(Entry::sparse));
  Held system = open_path(folder.path("image"), "with-system");
  EXPECT_EQ(entry_at(*system, "$MFT").kind, EntryKind::file);
}

/// `plain` in chunks behind a table of their places, as the system's overlay keeps it.
Bytes overlay_stream(const Bytes& plain, std::size_t chunk, bool lzx) {
  ByteWriter table, chunks;
  for (std::size_t at = 0; at < plain.size(); at += chunk) {
    if (at > 0) table.u32(chunks.size());
    ByteView part = ByteView(plain).subspan(at, std::min(chunk, plain.size() - at));
    Bytes packed = lzx ? pack_lzx_chunk(part, 15) : pack_xpress(part);
    chunks.bytes(packed.size() < part.size() ? ByteView(packed) : part);
  }
  return table.bytes(chunks.take()).take();
}

TEST(KernelMounts, FilesPackedByTheOverlayOfNtfsAreRead) {
  if (geteuid() != 0) GTEST_SKIP() << "only root may mount";
  NEEDS("mkfs.ntfs");
  TempFolder folder;
  std::ofstream(folder.path("image")).close();
  std::filesystem::resize_file(folder.path("image"), 16 << 20);
  ASSERT_EQ(tool("mkfs.ntfs", {"-q", "-F", "image"}, folder.path()).exit_code, 0);
  std::string text;
  for (int i = 0; i < 6'000; ++i) text += fmt::format("{} cm at {}\n", i * 37 % 520, i);
  Bytes plain = to_bytes(text), raw = noise(70'000);
  plain.insert(plain.end(), raw.begin(), raw.end());  // chunks that stay as they are
  plain.insert(plain.end(), text.begin(), text.begin() + 333);
  constexpr std::size_t kChunks[] = {4096, 32768, 8192, 16384};  // by the algorithm's number
  {
    KernelMount mounted(folder, "image", {"-t", "ntfs-3g", "-o", "loop,streams_interface=windows"});
    if (!mounted.works()) GTEST_SKIP() << "this machine does not mount it: " << mounted.why();
    for (std::uint32_t algorithm = 0; algorithm < 5; ++algorithm) {
      std::string path = fmt::format("{}/packed {}", mounted.path(), algorithm);
      std::ofstream(path).close();
      std::filesystem::resize_file(path, plain.size());
      Bytes packed = overlay_stream(plain, kChunks[algorithm % 4], algorithm == 1);
      std::ofstream(path + ":WofCompressedData", std::ios::binary)
          .write(as_text(packed).data(), static_cast<std::streamsize>(packed.size()));
      Bytes reparse = ByteWriter().u32(0x80000017).u16(16).u16(0).u32(1).u32(2).u32(1).u32(algorithm).take();
      ASSERT_EQ(setxattr(path.c_str(), "system.ntfs_reparse_data", reparse.data(), reparse.size(), 0), 0);
    }
  }
  Held held = open_path(folder.path("image"));
  ASSERT_EQ(held.format(), "ntfs");
  for (int algorithm = 0; algorithm < 4; ++algorithm) {
    std::string path = fmt::format("packed {}", algorithm);
    EXPECT_EQ(text_at(*held, path), as_text(plain)) << algorithm;
    EXPECT_EQ(entry_at(*held, path).method, algorithm == 1 ? "lzx" : "xpress");
    EXPECT_LT(entry_at(*held, path).stored_size, plain.size());
    Bytes part(100);  // from the middle, without what is in front
    auto content = held->content(static_cast<std::size_t>(&entry_at(*held, path) - held->entries().data()));
    EXPECT_EQ(content->source()->read_at(plain.size() - 80'000, part), part.size());
    EXPECT_EQ(as_text(part), as_text(plain).substr(plain.size() - 80'000, 100));
  }
  EXPECT_REFUSAL(text_at(*held, "packed 4"), Unsupported,
                 "Unsupported: files that the system's overlay takes from elsewhere (provider 2)");
  EXPECT_EQ(paths_of(*held).find("WofCompressedData"), std::string::npos);
  Held system = open_path(folder.path("image"), "with-system");
  EXPECT_EQ(entry_at(*system, "packed 1:WofCompressedData").kind, EntryKind::file);
}

}  // namespace
}  // namespace operculum

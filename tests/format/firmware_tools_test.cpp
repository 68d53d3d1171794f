// Firmware files that other makers' tools write: boot loaders', kernels', flash file systems'. What a machine
// cannot do is skipped with a message.
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>

#include "base/checksum.h"
#include "base/cursor.h"
#include "base/numbers.h"
#include "codec/codec.h"
#include "container/locator.h"
#include "io/file_source.h"
#include "support/firmware_writer.h"
#include "support/has.h"
#include "support/refusal.h"
#include "support/sentence.h"
#include "support/system_tools.h"
#include "task/region_map.h"

namespace operculum {
namespace {

using namespace test;

SampleTree gauge_files() {
  SampleTree tree = sample_tree_with_links();
  Bytes hole(300'000);
  std::copy_n("end", 3, hole.end() - 3);
  tree.push_back({.path = "hole.bin", .data = hole});
  tree.push_back({.path = "noise.bin", .data = noise(150'000, 3)});
  return tree;
}

/// Makes an image of the tree with a tool; the test ends when that fails.
std::string make_image(const TempFolder& folder, const std::string& program,
                       std::vector<std::string> arguments) {
  Ran made = tool(program, arguments, folder.path());
  EXPECT_EQ(made.exit_code, 0) << made.err;
  return folder.path("image");
}

struct ToolCase {
  std::string name;
  std::vector<std::string> options;
};

struct Jffs2Tool : testing::TestWithParam<ToolCase> {};

TEST_P(Jffs2Tool, HoldsTheTree) {
  NEEDS("mkfs.jffs2");
  TempFolder folder;
  SampleTree tree = gauge_files();
  write_tree(folder, "tree", tree);
  std::vector<std::string> arguments = GetParam().options;
  arguments.insert(arguments.end(), {"-r", "tree", "-o", "image"});
  Held held = open_path(make_image(folder, "mkfs.jffs2", arguments));
  ASSERT_EQ(held.format(), "jffs2");
  EXPECT_EQ(compare_tree(held, tree), "");
}

INSTANTIATE_TEST_SUITE_P(Options, Jffs2Tool,
                         testing::Values(ToolCase{"little", {"-l"}}, ToolCase{"big", {"-b"}},
                                         ToolCase{"padded", {"-l", "-p", "-e", "64KiB"}},
                                         ToolCase{"rtime", {"-l", "-x", "zlib", "-x", "lzo"}},
                                         ToolCase{"lzo", {"-l", "-X", "lzo", "-x", "zlib", "-x", "rtime"}},
                                         ToolCase{"plain", {"-l", "-m", "none"}},
                                         ToolCase{"without_marks", {"-l", "-n"}}),
                         [](const auto& one) { return one.param.name; });

struct UbifsTool : testing::TestWithParam<std::string> {};

TEST_P(UbifsTool, HoldsTheTree) {
  NEEDS("mkfs.ubifs");
  TempFolder folder;
  SampleTree tree = gauge_files();
  write_tree(folder, "tree", tree);
  Held held = open_path(
      make_image(folder, "mkfs.ubifs",
                 {"-r", "tree", "-m", "2048", "-e", "126976", "-c", "200", "-x", GetParam(), "-o", "image"}));
  ASSERT_EQ(held.format(), "ubifs");
  EXPECT_EQ(compare_tree(held, tree), "");
}

INSTANTIATE_TEST_SUITE_P(Packings, UbifsTool, testing::Values("none", "lzo", "zlib", "zstd"),
                         [](const auto& one) { return one.param; });

std::string make_ubi(const TempFolder& folder, const SampleTree& tree,
                     const std::vector<std::string>& options = {}) {
  write_tree(folder, "tree", tree);
  tool("mkfs.ubifs",
       {"-r", "tree", "-m", "2048", "-e", options.empty() ? "126976" : "129024", "-c", "200", "-o", "volume"},
       folder.path());
  folder.write("kernel", noise(300'000, 4));
  folder.write(
      "u.cfg",
      "[root]\nmode=ubi\nimage=volume\nvol_id=0\nvol_type=dynamic\nvol_name=rootfs\nvol_size=20MiB\n"
      "[kernel]\nmode=ubi\nimage=kernel\nvol_id=3\nvol_type=static\nvol_name=kernel\nvol_size=1MiB\n");
  std::vector<std::string> arguments = {"-o", "image", "-m", "2048", "-p", "128KiB"};
  arguments.insert(arguments.end(), options.begin(), options.end());
  arguments.push_back("u.cfg");
  return make_image(folder, "ubinize", arguments);
}

TEST(UbiTool, VolumesAndTheFileSystemInOne) {
  NEEDS("ubinize");
  for (const std::vector<std::string>& options : {std::vector<std::string>{}, {"-s", "512", "-O", "512"}}) {
    TempFolder folder;
    SampleTree tree = gauge_files();
    Held held = open_path(make_ubi(folder, tree, options));
    ASSERT_EQ(held.format(), "ubi");
    EXPECT_EQ(paths_of(*held), "rootfs kernel");
    EXPECT_EQ(text_at(*held, "kernel"), as_text(noise(300'000, 4)));
    Held inner;
    inner.context = std::make_unique<OpenContext>();
    inner.opened = open_container({held->content(0), "rootfs"}, *inner.context);
    ASSERT_EQ(inner.format(), "ubifs");
    EXPECT_EQ(compare_tree(inner, tree), "");
  }
}

TEST(UbiTool, AMapShowsTheBlocksOfEachVolume) {
  NEEDS("ubinize");
  TempFolder folder;
  Held held = open_path(make_ubi(folder, sample_tree()));
  RegionMap map = map_regions(*held, open_file(folder.path("image")), *held.context);
  ASSERT_EQ(map.regions.size(), 3u);  // the table of volumes is no entry's
  EXPECT_TRUE(map.regions[0].gap);
  EXPECT_EQ(map.regions[1].path, "rootfs");
  EXPECT_EQ(map.regions[1].at, std::uint64_t{2} * 128 * 1024);
  EXPECT_EQ(map.regions[2].path, "kernel");
  EXPECT_EQ(map.regions[2].size, std::uint64_t{3} * 128 * 1024);
}

TEST(UbiTool, ADamagedBlockOfAStaticVolumeIsTold) {
  NEEDS("ubinize");
  TempFolder folder;
  std::string path = make_ubi(folder, sample_tree());
  std::string image = folder.read("image");
  Bytes kernel = noise(300'000, 4);
  std::size_t at = image.find(as_text(ByteView(kernel).first(64)));
  ASSERT_NE(at, std::string::npos);
  image[at + 100] ^= 1;
  folder.write("image", image);
  EXPECT_REFUSAL(text_at(*open_path(path), "kernel"), Malformed, "kernel: block 0 does not fit its checksum");
}

TEST(UbiTool, SpareBytesAreGuessed) {
  NEEDS("ubinize");
  TempFolder folder;
  SampleTree tree = sample_tree();
  make_ubi(folder, tree);
  std::string image = folder.read("image"), dump;
  for (std::size_t at = 0; at < image.size(); at += 2048)
    dump += image.substr(at, 2048) + std::string(64, '\xFF');
  folder.write("dump", dump);
  Held held = open_path(folder.path("dump"));
  ASSERT_EQ(held.format(), "nand-dump");
  EXPECT_EQ(text_of(*held, 0), image);
  EXPECT_EQ(fact(*held, "block"), "64 pages");
}

TEST(UbifsTool2, CutsAndFlipsEndInASentence) {
  NEEDS("mkfs.ubifs");
  TempFolder folder;
  write_tree(folder, "tree", {{.path = "a.txt", .data = to_bytes("tide\n")}});
  make_image(folder, "mkfs.ubifs", {"-r", "tree", "-m", "512", "-e", "15360", "-c", "60", "-o", "image"});
  std::string image = folder.read("image");
  Bytes bytes(image.begin(), image.end());
  EXPECT_GT(read_with_flips(bytes, 300, false), 0u);
  bytes.resize(bytes.size() / 2);
  try {
    open_bytes(bytes)->entries();
  } catch (const Error&) {
    // a cut volume may have lost its index
  }
}

/// An image with a number changed in the first node of a type, which then fits its checksum again.
Bytes with_node_changed(Bytes image, Byte type, std::size_t at, std::size_t width, std::uint64_t value) {
  constexpr std::uint32_t kNode = 0x06101831;
  for (std::size_t begin = 0; begin + 24 <= image.size(); begin += 8) {
    Byte* node = image.data() + begin;
    if (load_little<std::uint32_t>(node) != kNode || node[20] != type) continue;
    store_number(node + at, width, value);
    auto length = load_little<std::uint32_t>(node + 16);
    store_number(node + 4, 4, crc32_plain(~0U, ByteView(node, length).subspan(8)));
    return image;
  }
  ADD_FAILURE() << "no node of type " << unsigned{type};
  return image;
}

TEST(UbifsTool2, NodesThatMakeNoSenseAreTold) {
  NEEDS("mkfs.ubifs");
  TempFolder folder;
  write_tree(folder, "tree", {{.path = "a.txt", .data = to_bytes("tide\n")}});
  make_image(folder, "mkfs.ubifs",
             {"-r", "tree", "-m", "512", "-e", "15360", "-c", "60", "-x", "none", "-o", "image"});
  const Bytes image = to_bytes(folder.read("image"));
  constexpr Byte kData = 1, kSuper = 6;
  auto told = [&](Byte type, std::size_t at, std::size_t width, std::uint64_t value) {
    return sentence([&] { text_at(*open_bytes(with_node_changed(image, type, at, width, value)), "a.txt"); });
  };
  EXPECT_TRUE(has(told(kData, 40, 4, 5000), ": a block of 5000 bytes"));
  EXPECT_TRUE(has(told(kData, 40, 4, 10), ": 5 bytes came out, 10 are stated"));
  EXPECT_EQ(told(kData, 44, 2, 9), "Unsupported: UBIFS data packed by method 9");
  EXPECT_EQ(told(kSuper, 27, 1, 1), "Unsupported: UBIFS with keys of form 1");
  EXPECT_EQ(told(kSuper, 36, 4, 100), "UBIFS superblock: blocks of 100 bytes");
}

TEST(DeviceTreeTool, ReadsWhatTheCompilerWritesAndPrintsWhatItReads) {
  NEEDS("dtc");
  TempFolder folder;
  folder.write("a.dts",
               "/dts-v1/;\n/memreserve/ 0x1000 0x2000;\n/ { model = \"gauge\"; reg = <1 2 3>; mac = [00 11 "
               "22]; flag;\n"
               "  names = \"one\", \"two\"; chosen { bootargs = \"console=ttyS0\"; }; };\n");
  ASSERT_EQ(tool("dtc", {"-q", "-I", "dts", "-O", "dtb", "-o", "a.dtb", "a.dts"}, folder.path()).exit_code,
            0);
  Held held = open_path(folder.path("a.dtb"));
  ASSERT_EQ(held.format(), "device-tree");
  folder.write("b.dts", held->text().value_or(""));
  ASSERT_EQ(tool("dtc", {"-q", "-I", "dts", "-O", "dtb", "-o", "b.dtb", "b.dts"}, folder.path()).exit_code,
            0);
  EXPECT_EQ(folder.read("a.dtb"), folder.read("b.dtb"));
}

TEST(BootImageTool, SingleSeveralAndScripts) {
  NEEDS("mkimage");
  TempFolder folder;
  folder.write("kernel", noise(5000));
  folder.write("text", "echo hello\n");
  make_image(
      folder, "mkimage",
      {"-A", "arm", "-O", "linux", "-T", "kernel", "-C", "none", "-n", "gauge", "-d", "kernel", "image"});
  EXPECT_EQ(text_at(*open_path(folder.path("image")), "kernel"), as_text(noise(5000)));
  make_image(folder, "mkimage",
             {"-A", "arm", "-O", "linux", "-T", "multi", "-C", "none", "-d", "kernel:text", "image"});
  EXPECT_EQ(text_at(*open_path(folder.path("image")), "file-1"), "echo hello\n");
  make_image(folder, "mkimage",
             {"-A", "arm", "-O", "linux", "-T", "script", "-C", "none", "-d", "text", "image"});
  EXPECT_EQ(text_at(*open_path(folder.path("image")), "script"), "echo hello\n");
}

TEST(ImageTreeTool, DataWithinBehindAndEncrypted) {
  NEEDS("mkimage");
  NEEDS("dtc");
  TempFolder folder;
  folder.write("kernel", noise(5000));
  folder.write("settings", "station=7\n");
  Bytes key = noise(32, 6);
  folder.write("keys/gauge.bin", key);
  folder.write("keys/iv.bin", noise(16, 7));
  std::string image =
      "kernel-1 { description=\"k\"; data=/incbin/(\"kernel\"); type=\"kernel\"; arch=\"arm\"; os=\"linux\"; "
      "compression=\"none\"; "
      "load=<0>; entry=<0>; hash-1 { algo=\"sha256\"; }; };";
  std::string secret =
      "settings { description=\"s\"; data=/incbin/(\"settings\"); type=\"ramdisk\"; arch=\"arm\"; "
      "os=\"linux\"; compression=\"none\"; "
      "cipher { algo=\"aes256\"; key-name-hint=\"gauge\"; iv-name-hint=\"iv\"; }; };";
  auto source = [](const std::string& images) {
    return "/dts-v1/;\n/ { description=\"update\"; #address-cells=<1>; images { " + images +
           " }; configurations { default=\"c\"; c { kernel=\"kernel-1\"; }; }; };\n";
  };
  folder.write("a.its", source(image));
  for (const std::vector<std::string>& options :
       {std::vector<std::string>{}, {"-E"}, {"-E", "-p", "0x4000"}}) {
    std::vector<std::string> arguments = options;
    arguments.insert(arguments.end(), {"-f", "a.its", "image"});
    Held held = open_path(make_image(folder, "mkimage", arguments));
    ASSERT_EQ(held.format(), "fit");
    EXPECT_EQ(text_at(*held, "images/kernel-1"), as_text(noise(5000)));
  }
  folder.write("b.its", source(image + secret));
  Held held = open_path(make_image(folder, "mkimage", {"-f", "b.its", "-k", "keys", "image"}));
  EXPECT_REFUSAL(text_at(*held, "images/settings"), NeedsKey,
                 "the key \"iv\" is needed; give it in keys.toml under that name, or with --password-file or "
                 "in OPERCULUM_PASSWORD");
  held.context->keys.add_named("gauge", {std::string(as_text(key)), "a test"});
  EXPECT_REFUSAL(text_at(*held, "images/settings"), NeedsKey,
                 "the key \"iv\" is needed; give it in keys.toml under that name, or with --password-file or "
                 "in OPERCULUM_PASSWORD");  // its initialisation vector is kept
                                            // outside, too
  held.context->keys.add_named("iv", {std::string(as_text(noise(16, 7))), "a test"});
  EXPECT_EQ(text_at(*held, "images/settings"), "station=7\n");
}

TEST(AndroidTool, VersionsThatItWrites) {
  NEEDS("mkbootimg");
  for (const char* version : {"0", "1", "2", "3"}) {
    TempFolder folder;
    folder.write("kernel", noise(5000));
    folder.write("ramdisk", noise(700, 2));
    folder.write("dtb", noise(90, 3));
    std::vector<std::string> arguments = {"--kernel", "kernel",    "--ramdisk", "ramdisk", "--header_version",
                                          version,    "--cmdline", "console=x", "-o",      "image"};
    if (std::string(version) == "2") arguments.insert(arguments.end(), {"--dtb", "dtb"});
    Held held = open_path(make_image(folder, "mkbootimg", arguments));
    ASSERT_EQ(held.format(), "android-boot");
    EXPECT_EQ(text_at(*held, "kernel"), as_text(noise(5000)));
    EXPECT_EQ(text_at(*held, "ramdisk"), as_text(noise(700, 2)));
    EXPECT_EQ(fact(*held, "command line"), "console=x");
  }
}

TEST(DeviceUpgradeTool, SuffixesThatItWrites) {
  NEEDS("dfu-suffix");
  TempFolder folder;
  folder.write("image", noise(5000));
  ASSERT_EQ(
      tool("dfu-suffix", {"-v", "1234", "-p", "5678", "-d", "1", "-a", "image"}, folder.path()).exit_code, 0);
  Held held = open_path(folder.path("image"));
  ASSERT_EQ(held.format(), "dfu");
  EXPECT_EQ(text_at(*held, "payload"), as_text(noise(5000)));
  EXPECT_TRUE(held->findings().empty());
}

TEST(FirmwarePackageTool, ImagesByName) {
  NEEDS("fiptool");
  TempFolder folder;
  folder.write("bl2", noise(500));
  folder.write("bl33", noise(900, 2));
  Held held =
      open_path(make_image(folder, "fiptool", {"create", "--tb-fw", "bl2", "--nt-fw", "bl33", "image"}));
  ASSERT_EQ(held.format(), "fip");
  EXPECT_EQ(paths_of(*held), "tb-fw nt-fw");
  EXPECT_EQ(text_at(*held, "nt-fw"), as_text(noise(900, 2)));
}

TEST(CorebootTool, ComponentsPackedAndNot) {
  NEEDS("cbfstool");
  TempFolder folder;
  folder.write("a", Bytes(20'000, 'a'));
  folder.write("boot", noise(256));
  ASSERT_EQ(tool("cbfstool", {"image", "create", "-m", "x86", "-s", "0x40000", "-B", "boot"}, folder.path())
                .exit_code,
            0);
  ASSERT_EQ(
      tool("cbfstool", {"image", "add", "-f", "a", "-n", "plain", "-t", "raw"}, folder.path()).exit_code, 0);
  ASSERT_EQ(
      tool("cbfstool", {"image", "add", "-f", "a", "-n", "packed", "-t", "raw", "-c", "lzma"}, folder.path())
          .exit_code,
      0);
  ASSERT_EQ(tool("cbfstool", {"image", "add", "-f", "a", "-n", "sub/quick", "-t", "raw", "-c", "lz4"},
                 folder.path())
                .exit_code,
            0);
  Held held = open_path(folder.path("image"));
  ASSERT_EQ(held.format(), "cbfs");
  for (const char* path : {"plain", "packed", "sub/quick"})
    EXPECT_EQ(text_at(*held, path), std::string(20'000, 'a')) << path;
}

TEST(ObjectCopy, TextForms) {
  NEEDS("objcopy");
  TempFolder folder;
  folder.write("data", noise(70'000));
  for (const char* form : {"ihex", "srec", "verilog"}) {
    make_image(folder, "objcopy", {"-I", "binary", "-O", form, "data", "image"});
    Held held = open_path(folder.path("image"));
    EXPECT_EQ(text_of(*held, 0), as_text(noise(70'000))) << form;
    EXPECT_TRUE(held->findings().empty()) << form;
  }
}

TEST(FirmwareOfTheSystem, UefiBuildsAreListedToTheirLastSection) {
  std::string path = "/usr/share/OVMF/OVMF_CODE.fd";
  if (!std::filesystem::exists(path)) GTEST_SKIP() << path << " is not on this machine";
  Held held = open_path(path);
  ASSERT_EQ(held.format(), "uefi");
  EXPECT_TRUE(held->findings().empty()) << held->findings().front().text;
  std::size_t programs = 0;
  for (const Entry& entry : held->entries()) {
    if (!entry.path.ends_with("image.efi")) continue;
    ++programs;
    Bytes mark(2);
    read_fully(*held->content(static_cast<std::size_t>(&entry - held->entries().data()))->stream(), mark);
    EXPECT_EQ(as_text(mark), "MZ") << entry.path;
  }
  EXPECT_GT(programs, 50u);
}

}  // namespace
}  // namespace operculum

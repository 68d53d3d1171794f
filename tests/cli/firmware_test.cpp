// Firmware as a person meets it, with the built program: the map, one locator through all layers, dumps,
// keys.
#include <gtest/gtest.h>

#include "base/numbers.h"
#include "base/text.h"
#include "codec/codec.h"
#include "support/firmware_writer.h"
#include "support/has.h"
#include "support/packs.h"
#include "support/program.h"
#include "support/sample_tree.h"
#include "support/squashfs_old_writer.h"
#include "support/squashfs_writer.h"
#include "support/temp_folder.h"

namespace operculum::test {
namespace {

constexpr const char* kLayout = "--layout=" OPERCULUM_SOURCE "/layouts/swell.layout";

/// A header of the gauges' own around an image tree with a device tree, a file system and an encrypted part,
/// and flash.
Bytes update(const std::string& setting) {
  Bytes bundle = make_fit(
      "update",
      {{"tree", "flat_dt", make_device_tree({"", {{"model", zero_ended("gauge 2")}}})},
       {"rootfs", "filesystem", make_squashfs({{.path = "gauge.conf", .data = to_bytes(setting)}})},
       {"calibration", "firmware", to_bytes("0,0\n1,12\n"), noise(16, 4), noise(16, 5), "gauge update"}},
      true);
  Bytes flash = Jffs2Writer()
                    .file(1, 2, "station.conf", to_bytes("station = 2\n"))
                    .piece(2, 0100644, 2, 10, to_bytes("3"), 12)
                    .build(64 << 10);
  return make_swell("2.4.0", {{"bundle.itb", bundle}, {"settings.jffs2", flash}});
}

TEST(FirmwareOnDesk, OneLocatorGoesThroughAllLayers) {
  TempFolder folder;
  folder.write("update.swell", update("every_s = 300\n"));
  Ran show = operculum({"show", kLayout, "update.swell/bundle.itb/images/rootfs/gauge.conf"}, folder.path());
  EXPECT_EQ(show.out, "every_s = 300\n") << show.err;
  EXPECT_EQ(operculum({"show", kLayout, "update.swell/settings.jffs2/station.conf"}, folder.path()).out,
            "station = 3\n");
  Ran tree = operculum({"show", kLayout, "update.swell/bundle.itb/images/tree/"}, folder.path());
  EXPECT_TRUE(has(tree.out, "model = \"gauge 2\";")) << tree.err;
}

TEST(FirmwareOnDesk, TwoUpdatesAreCompared) {
  TempFolder folder;
  folder.write("old.swell", update("every_s = 360\n"));
  folder.write("new.swell", update("every_s = 300\n"));
  folder.write("config/operculum/keys.toml",
               "[[key]]\nname = \"gauge update\"\nhex = \"" + to_hex(noise(16, 4)) + "\"\n");
  Ran ran = operculum({"compare", "--deep", kLayout, "old.swell", "new.swell"}, folder.path(),
                      {{"XDG_CONFIG_HOME", folder.path("config")}});
  EXPECT_EQ(ran.exit_code, 1) << ran.err;
  EXPECT_TRUE(has(ran.out, "+every_s = 300"));
  EXPECT_TRUE(has(ran.out, "1 changed")) << ran.out;
}

TEST(FirmwareOnDesk, EncryptedPartsNameTheirKey) {
  TempFolder folder;
  folder.write("update.swell", update("x"));
  std::vector<std::string> command = {"show", kLayout, "update.swell/bundle.itb/images/calibration"};
  Ran without = operculum(command, folder.path());
  EXPECT_EQ(without.exit_code, 4);
  EXPECT_TRUE(has(without.err, "the key \"gauge update\" is needed")) << without.err;
  folder.write("config/operculum/keys.toml",
               "[[key]]\nname = \"gauge update\"\nhex = \"" + to_hex(noise(16, 4)) + "\"\n");
  EXPECT_EQ(operculum(command, folder.path(), {{"XDG_CONFIG_HOME", folder.path("config")}}).out,
            "0,0\n1,12\n");
}

Bytes chip() {
  Bytes chip = make_boot_image("loader", noise(900));
  chip.resize(4096, 0xFF);
  Bytes flash = Jffs2Writer().file(1, 2, "station.conf", to_bytes("station = 2\n")).build(64 << 10);
  chip.insert(chip.end(), flash.begin(), flash.end());
  Bytes text = zero_ended("gauge firmware version 2.4.1 of the workshop");
  chip.insert(chip.end(), text.begin(), text.end());
  chip.resize(4096 + (64 << 10) + 4096);
  return chip;
}

TEST(FirmwareOnDesk, TheMapOfADump) {
  TempFolder folder;
  folder.write("chip.bin", chip());
  Ran ran = operculum({"identify", "--search", "chip.bin", "--page", "map.html"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(has(ran.out, "JFFS2 file system")) << ran.out;
  EXPECT_TRUE(has(ran.out, "(filled with 0xff)")) << ran.out;
  EXPECT_TRUE(has(ran.out, "\"gauge firmware version 2.4.1 of the workshop\"")) << ran.out;
  std::string page = folder.read("map.html");
  EXPECT_TRUE(has(page, "<svg class=\"map\""));
  EXPECT_TRUE(has(page, "JFFS2 file system"));
  EXPECT_FALSE(has(page, "http://"));
  Ran json = operculum({"identify", "--search", "--json", "chip.bin"}, folder.path());
  EXPECT_TRUE(has(json.out, "\"map\":[")) << json.out;
  EXPECT_TRUE(has(json.out, "\"versions\":[\"gauge firmware")) << json.out;
}

TEST(FirmwareOnDesk, WhatAnUpdateWouldWriteWhere) {
  TempFolder folder;
  // Intel HEX: 16 bytes at 0x08000000 and 4 at 0x08000100.
  folder.write(
      "gauge.hex",
      ":020000040800F2\n:10000000000102030405060708090A0B0C0D0E0F78\n:0401000001020304F1\n:00000001FF\n");
  Ran ran = operculum({"install-report", "gauge.hex"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(has(ran.out, "would write\n            16  0x8000000 to 0x8000010")) << ran.out;
  EXPECT_TRUE(has(ran.out, "             4  0x8000100 to 0x8000104")) << ran.out;
  EXPECT_FALSE(has(ran.out, "to remove by hand")) << ran.out;
  Ran json = operculum({"install-report", "--json", "gauge.hex"}, folder.path());
  EXPECT_TRUE(has(json.out, "\"writes\":[{\"to\":\"0x8000000 to 0x8000010\"")) << json.out;
  Ran page = operculum({"install-report", "gauge.hex", "--page", "report.html"}, folder.path());
  EXPECT_EQ(page.exit_code, 0) << page.err;
  EXPECT_TRUE(has(folder.read("report.html"), "<h2>Would write</h2>"));
  EXPECT_TRUE(has(folder.read("report.html"), "ranges that would be written"));
  Ran identify = operculum({"identify", "gauge.hex"}, folder.path());
  EXPECT_TRUE(has(identify.out, "install-report gauge.hex")) << identify.out;
  EXPECT_FALSE(has(identify.out, "\n  map ")) << identify.out;
}

TEST(FirmwareOnDesk, ADeviceTreeIsATextOnATerminal) {
  TempFolder folder;
  folder.write(
      "update.itb",
      make_fit("update", {{"tree", "flat_dt", make_device_tree({"", {{"model", zero_ended("gauge 2")}}})}},
               true));
  Ran terminal = operculum_on_terminal({"show", "update.itb/images/tree"}, folder.path(), {});
  EXPECT_TRUE(has(terminal.out, "model = \"gauge 2\";")) << terminal.out;
  Ran bytes = operculum({"show", "update.itb/images/tree"}, folder.path());
  EXPECT_TRUE(bytes.out.starts_with("\xD0\x0D\xFE\xED"));
}

TEST(FirmwareOnDesk, PartsWithHeadersOfTheirOwnKindAreFound) {
  TempFolder folder;
  std::string text;
  for (int i = 0; i < 900; ++i) text += "station " + std::to_string(i) + "\n";
  Bytes packed = encode("lzma-alone", to_bytes(text));
  Bytes dump = noise(3001);
  auto append = [&](ByteView part) { dump.insert(dump.end(), part.begin(), part.end()); };
  Bytes size;
  append_number(size, 4, text.size());
  append(size);  // a size in front, properties, no size behind
  append(ByteView(packed).first(5));
  append(ByteView(packed).subspan(13));
  append(noise(2000, 3));
  append(make_old_squashfs({{.path = "a.txt", .data = to_bytes("tide\n")}}, {.big = true}));
  folder.write("dump.bin", dump);
  Ran list = operculum({"list", "--search", "--paths", "dump.bin"}, folder.path());
  EXPECT_EQ(list.exit_code, 0) << list.err;
  EXPECT_TRUE(has(list.out, "offset-00000bb9\n")) << list.out;
  EXPECT_TRUE(has(list.out, ".squashfs\n")) << list.out;
}

TEST(FirmwareOnDesk, APageNeedsSomethingToDraw) {
  TempFolder folder;
  folder.write("notes.txt", "no firmware\n");
  Ran ran = operculum({"identify", "notes.txt", "--page", "map.html"}, folder.path());
  EXPECT_NE(ran.exit_code, 0);
  EXPECT_TRUE(has(ran.err, "there is no map to draw of it")) << ran.err;
  EXPECT_EQ(folder.listing(), "notes.txt");
}

TEST(FirmwareOnDesk, PartsByALineOrByADeviceTree) {
  TempFolder folder;
  folder.write("chip.bin", chip());
  Ran line =
      operculum({"show", "chip.bin/settings/station.conf", "--parts", "4k(loader),64k(settings),-(rest)"},
                folder.path());
  EXPECT_EQ(line.out, "station = 2\n") << line.err;
  folder.write("tree.dtb",
               make_device_tree(
                   {"",
                    {},
                    {{"partitions",
                      {{"compatible", zero_ended("fixed-partitions")},
                       {"#address-cells", cell(1)},
                       {"#size-cells", cell(1)}},
                      {{"p@0", {{"label", zero_ended("loader")}, {"reg", cells({0, 4096})}}},
                       {"p@1000", {{"label", zero_ended("settings")}, {"reg", cells({4096, 65536})}}}}}}}));
  Ran tree = operculum({"list", "--paths", "chip.bin", "--parts", "tree.dtb"}, folder.path());
  EXPECT_EQ(tree.out, "loader\nsettings\nbehind\n") << tree.err;
  Ran wrong = operculum({"list", "chip.bin", "--parts", "4k(loader"}, folder.path());
  EXPECT_NE(wrong.exit_code, 0);
  EXPECT_TRUE(has(wrong.err, "a name without its end")) << wrong.err;
}

TEST(FirmwareOnDesk, SpareBytesAreLeftOut) {
  TempFolder folder;
  Bytes flash = Jffs2Writer().file(1, 2, "a.txt", to_bytes("tide\n")).build(64 * 512), dump;
  for (std::size_t at = 0; at < flash.size(); at += 512) {
    dump.insert(dump.end(), flash.begin() + static_cast<std::ptrdiff_t>(at),
                flash.begin() + static_cast<std::ptrdiff_t>(at + 512));
    dump.insert(dump.end(), 16, 0xFF);
  }
  folder.write("nand.bin", dump);
  Ran ran = operculum({"show", "nand.bin/a.txt", "--pages", "512+16"}, folder.path());
  EXPECT_EQ(ran.out, "tide\n") << ran.err;
  Ran wrong = operculum({"show", "nand.bin/a.txt", "--pages", "512"}, folder.path());
  EXPECT_EQ(wrong.exit_code, 2);
  EXPECT_TRUE(has(wrong.err, "expected a page and its spare bytes")) << wrong.err;
}

TEST(FirmwareOnDesk, ChunksAreShownWhenTheyAreAskedFor) {
  TempFolder folder;
  Bytes wave = ByteWriter()
                   .text("RIFF")
                   .u32(4 + 8 + 16 + 8 + 6)
                   .text("WAVEfmt ")
                   .u32(16)
                   .zeros(16)
                   .text("data")
                   .u32(6)
                   .text("surf!!")
                   .take();
  folder.write("surf.wav", wave);
  Ran asked = operculum({"show", "surf.wav/RIFF-WAVE/data", "--view", "chunks"}, folder.path());
  EXPECT_EQ(asked.out, "surf!!") << asked.err;
  EXPECT_EQ(operculum({"show", "surf.wav"}, folder.path()).out, as_text(wave));
}

}  // namespace
}  // namespace operculum::test

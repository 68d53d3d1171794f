// Boot and update wrappers: legacy boot images, device trees, image trees, Android images, device upgrades,
// kernels.
#include <gtest/gtest.h>

#include <algorithm>

#include "codec/codec.h"
#include "container/format.h"
#include "format/firmware/partition_line.h"
#include "support/firmware_writer.h"
#include "support/has.h"
#include "support/open.h"
#include "support/refusal.h"
#include "support/sample_tree.h"
#include "support/system_tools.h"
#include "support/zip_builder.h"

namespace operculum {
namespace {

using namespace test;

// ---- legacy boot images

TEST(BootImage, TellsItsHeaderAndGivesItsData) {
  Bytes kernel = noise(5000);
  Held held = open_bytes(make_boot_image("tide gauge 7", kernel));
  ASSERT_EQ(held.format(), "boot-image");
  EXPECT_EQ(paths_of(*held), "kernel");
  EXPECT_EQ(text_of(*held, 0), as_text(kernel));
  EXPECT_EQ(fact(*held, "name"), "tide gauge 7");
  EXPECT_EQ(fact(*held, "for"), "Linux on ARM");
  EXPECT_EQ(fact(*held, "load address"), "0x80008000");
  EXPECT_TRUE(held->findings().empty());
}

TEST(BootImage, ChecksumsOfHeaderAndDataAreCompared) {
  Bytes image = make_boot_image("gauge", noise(5000));
  image[70] ^= 1;
  EXPECT_REFUSAL(text_of(*open_bytes(image), 0), Malformed,
                 "checksum differs (stored 65f08bc4, computed 7a4abd9e); the data is damaged");
  image[70] ^= 1;
  image[33] ^= 1;  // in the name
  EXPECT_TRUE(has_finding(*open_bytes(image), "the header does not fit its checksum"));
}

TEST(BootImage, SeveralFilesAndWhatFollows) {
  Bytes image = make_multi_boot_image({noise(1001), to_bytes("station=7\n")});
  Bytes behind = make_boot_image("second", to_bytes("x"));
  image.insert(image.end(), behind.begin(), behind.end());
  Held held = open_bytes(image);
  EXPECT_EQ(paths_of(*held), "file-0 file-1 behind");
  EXPECT_EQ(text_at(*held, "file-1"), "station=7\n");
  EXPECT_EQ(text_at(*held, "behind"), as_text(behind));
  EXPECT_TRUE(held->findings().empty());
  image[100] ^= 1;
  EXPECT_TRUE(has_finding(*open_bytes(image), "the data does not fit its checksum"));
}

TEST(BootImage, FillingBehindIsNoPart) {
  Bytes image = make_boot_image("gauge", noise(500));
  image.resize(8192, 0xFF);
  Held held = open_bytes(image);
  EXPECT_EQ(paths_of(*held), "kernel");
  EXPECT_TRUE(has_finding(*held, "bytes of filling follow"));
}

TEST(BootImage, SurvivesCuts) {
  EXPECT_GT(read_every_prefix(make_boot_image("gauge", noise(300)), "cut.uimg"), 0u);
  EXPECT_GT(read_every_prefix(make_multi_boot_image({noise(100), noise(50)}), "cut.uimg"), 0u);
}

// ---- device trees

TreeNode gauge_tree() {
  return {
      "",
      {{"model", zero_ended("Tide gauge 7")},
       {"compatible", to_bytes(std::string_view("saltmarsh,gauge-7\0saltmarsh,gauge\0", 34))}},
      {{"chosen", {{"bootargs", zero_ended("console=ttyS0")}}},
       {"flash@0",
        {{"reg", cells({0, 0x1000000})}, {"mac", {0, 0x11, 0x22, 0x33, 0x44, 0x55}}, {"fast", {}}},
        {{"partitions",
          {{"compatible", zero_ended("fixed-partitions")},
           {"#address-cells", cell(1)},
           {"#size-cells", cell(1)}},
          {{"partition@0", {{"label", zero_ended("boot")}, {"reg", cells({0, 0x100})}, {"read-only", {}}}},
           {"partition@100", {{"label", zero_ended("data")}, {"reg", cells({0x100, 0x200})}}}}}}}}};
}

TEST(DeviceTree, NodesAreFoldersAndPropertiesFiles) {
  Held held = open_bytes(make_device_tree(gauge_tree()));
  ASSERT_EQ(held.format(), "device-tree");
  EXPECT_EQ(text_at(*held, "chosen/bootargs"),
            zero_ended("console=ttyS0").size() == 14 ? std::string("console=ttyS0\0", 14) : "");
  EXPECT_EQ(entry_at(*held, "chosen/bootargs").extra->type_tag, "text");
  EXPECT_EQ(entry_at(*held, "flash@0/reg").extra->type_tag, "cells");
  EXPECT_EQ(entry_at(*held, "flash@0/mac").extra->type_tag, "bytes");
  EXPECT_EQ(entry_at(*held, "flash@0/fast").extra->type_tag, "flag");
  EXPECT_EQ(entry_at(*held, "flash@0").kind, EntryKind::folder);
  EXPECT_EQ(fact(*held, "model"), "Tide gauge 7");
}

TEST(DeviceTree, IsSourceText) {
  Held held = open_bytes(make_device_tree(gauge_tree()));
  std::string text = held->text().value_or("");
  EXPECT_TRUE(has(text, "/dts-v1/;"));
  EXPECT_TRUE(has(text, "compatible = \"saltmarsh,gauge-7\", \"saltmarsh,gauge\";"));
  EXPECT_TRUE(has(text, "reg = <0x0 0x1000000>;"));
  EXPECT_TRUE(has(text, "fast;"));
}

TEST(DeviceTree, SurvivesCutsAndFlips) {
  Bytes tree = make_device_tree(gauge_tree());
  read_every_prefix(tree, "cut.dtb");
  EXPECT_GT(read_with_flips(tree, 400, false), 100u);
}

TEST(DeviceTree, DeepNestingEndsInASentence) {
  TreeNode node{"deep"};
  for (int i = 0; i < 200; ++i) node = TreeNode{"deep", {}, {node}};
  EXPECT_REFUSAL(open_bytes(make_device_tree({"", {}, {node}})), LimitExceeded,
                 "device tree: more than 64 nodes within each other");
}

TEST(DeviceTree, WithoutATableOfPartitionsTellsSo) {
  auto parts = [](const TreeNode& root) {
    return read_tree_partitions(make_memory_source(make_device_tree(root)));
  };
  EXPECT_EQ(parts(gauge_tree()).at(1).name, "data");
  EXPECT_REFUSAL(parts({"", {{"model", zero_ended("Tide gauge 7")}}, {}}), Malformed,
                 "--parts: the device tree has no node with compatible = \"fixed-partitions\"");
}

// ---- image trees

std::vector<FitImage> update_images(const std::string& key_name = "") {
  std::vector<FitImage> images = {{"kernel-1", "kernel", noise(3000)},
                                  {"fdt-1", "flat_dt", make_device_tree(gauge_tree())}};
  if (!key_name.empty())
    images.push_back(
        {"settings", "firmware", to_bytes("station=7\nlamp=on\n"), noise(32, 9), noise(16, 8), key_name});
  return images;
}

TEST(ImageTree, WhatCannotBeIsTold) {
  Bytes without_vector = make_fit("update", {{.name = "settings",
                                              .type = "firmware",
                                              .data = noise(64),
                                              .key = noise(32, 9),
                                              .key_name = "gauge"}});
  EXPECT_REFUSAL(text_at(*open_bytes(without_vector), "images/settings"), Malformed,
                 "an encrypted image that does not tell its initialisation vector");
  std::string names;
  for (int i = 0; i < 6000; ++i) names += "kernel-1" + std::string(1, '\0');
  TreeNode images{"images", {}, {{"kernel-1", {{"type", zero_ended("kernel")}, {"data", noise(64)}}}}};
  TreeNode wishes{
      "configurations", {}, {{"usual", {{"loadables", to_bytes(names)}, {"firmware", to_bytes(names)}}}}};
  EXPECT_REFUSAL(
      open_bytes(make_device_tree({"", {{"description", zero_ended("update")}}, {images, wishes}})),
      LimitExceeded, "image tree: its configurations name more than 10,000 images");
}

TEST(ImageTree, GivesDataWithinAndBehindTheTree) {
  for (bool external : {false, true}) {
    Held held = open_bytes(make_fit("gauge update", update_images(), external));
    ASSERT_EQ(held.format(), "fit");
    EXPECT_EQ(paths_of(*held), "images images/kernel-1 images/fdt-1");
    EXPECT_EQ(text_at(*held, "images/kernel-1"), as_text(noise(3000)));
    EXPECT_TRUE(entry_at(*held, "images/kernel-1").is(Entry::has_sum));
    EXPECT_EQ(fact(*held, "usual configuration"), "conf-1: kernel kernel-1, fdt fdt-1");
    EXPECT_TRUE(held->findings().empty());
  }
}

TEST(ImageTree, HashesAreCompared) {
  Bytes update = make_fit("gauge update", update_images(), true);
  update[update.size() - 700] ^= 1;
  Held held = open_bytes(update);
  int damaged = 0;
  for (const char* path : {"images/kernel-1", "images/fdt-1"}) {
    try {
      text_at(*held, path);
    } catch (const Malformed&) {
      ++damaged;
    }
  }
  EXPECT_EQ(damaged, 1);
}

TEST(ImageTree, AConfigurationThatNamesNothingIsAFault) {
  std::vector<FitImage> images = update_images();
  Bytes update = make_fit("gauge update", images);
  std::string_view text = as_text(update);
  std::size_t at = text.rfind("fdt-1");  // the configuration's, behind the node's
  update[at + 4] = '9';
  EXPECT_TRUE(has_finding(*open_bytes(update), "which is not there"));
}

TEST(ImageTree, EncryptedPartsNeedTheirKey) {
  Bytes update = make_fit("gauge update", update_images("gauge-key"));
  Held without = open_bytes(update);
  EXPECT_TRUE(entry_at(*without, "images/settings").is(Entry::encrypted));
  EXPECT_REFUSAL(text_at(*without, "images/settings"), NeedsKey,
                 "the key \"gauge-key\" is needed; give it in keys.toml under that name, or with "
                 "--password-file or in OPERCULUM_PASSWORD");
  auto with_key = [&](const Bytes& key) {
    return open_bytes(update, "sample", As::file, [&](OpenContext& context) {
      context.keys.add_named("gauge-key", {std::string(as_text(key)), "a test"});
    });
  };
  EXPECT_REFUSAL(text_at(*with_key(noise(32, 77)), "images/settings"), NeedsKey,
                 "the key \"gauge-key\" does not fit; give it in keys.toml under that name, or with "
                 "--password-file or in OPERCULUM_PASSWORD");
  EXPECT_EQ(text_at(*with_key(noise(32, 9)), "images/settings"), "station=7\nlamp=on\n");
}

// ---- Android

Bytes android_boot(unsigned version) {
  Canvas image(4096 * 4);
  image.text(0, "ANDROID!");
  image.u32(8, 3000);
  if (version >= 3) {
    image.u32(12, 100);
    image.u32(40, version);
    image.text(44, "console=ttyS0");
    image.put(4096, noise(3000));
    image.put(8192, noise(100, 2));
    return image.take();
  }
  image.u32(12, 0x10008000);
  image.u32(16, 100);
  image.u32(36, 4096);
  image.u32(40, version);
  image.u32(44, (12u << 14 | 1u << 7 | 3u) << 11 | (21u << 4 | 11u));
  image.text(48, "gauge");
  image.text(64, "console=ttyS0");
  image.put(4096, noise(3000));
  image.put(8192, noise(100, 2));
  if (version >= 2) {
    image.u32(1648, 40);
    image.put(12288, noise(40, 3));
  }
  return image.take();
}

TEST(AndroidBoot, AllVersions) {
  for (unsigned version : {0u, 1u, 2u, 3u, 4u}) {
    Held held = open_bytes(android_boot(version));
    ASSERT_EQ(held.format(), "android-boot") << version;
    EXPECT_EQ(text_at(*held, "kernel"), as_text(noise(3000))) << version;
    EXPECT_EQ(text_at(*held, "ramdisk"), as_text(noise(100, 2))) << version;
    EXPECT_EQ(fact(*held, "command line"), "console=ttyS0") << version;
    EXPECT_EQ(held->find("dtb").kind == Lookup::Kind::entry, version == 2);
    EXPECT_EQ(fact(*held, "system"), version < 3 ? "12.1.3, security patch 2021-11" : "");
  }
}

TEST(AndroidBoot, TheFooterOfVerifiedBootIsNamed) {
  Bytes image = android_boot(3);
  std::size_t at = image.size();
  ByteWriter more;
  more.text("AVB0 metadata");
  Bytes metadata = more.take();
  image.insert(image.end(), metadata.begin(), metadata.end());
  image.resize(at + 4096 - 64);
  Bytes footer =
      ByteWriter().text("AVBf").u32be(1).u32be(0).u64be(at).u64be(at).u64be(metadata.size()).zeros(28).take();
  image.insert(image.end(), footer.begin(), footer.end());
  Held held = open_bytes(image);
  EXPECT_EQ(text_at(*held, "vbmeta"), "AVB0 metadata");
  EXPECT_TRUE(has(fact(*held, "verified boot"), "footer 1.0"));
}

TEST(VendorBoot, FragmentsHaveNames) {
  Canvas image(4096 * 5);
  image.text(0, "VNDRBOOT");
  image.u32(8, 4);
  image.u32(12, 4096);
  image.u32(24, 300);
  image.u32(2096, 2128);
  image.u32(2112, 216);
  image.u32(2116, 2);
  image.u32(2120, 108);
  image.put(4096, noise(300));
  for (unsigned i = 0; i < 2; ++i) {
    std::size_t row = 8192 + i * 108;
    image.u32(row, i == 0 ? 100 : 200);
    image.u32(row + 4, i * 100);
    image.u32(row + 8, i == 0 ? 1 : 3);
    image.text(row + 12, i == 0 ? "" : "modules");
  }
  Held held = open_bytes(image.take());
  ASSERT_EQ(held.format(), "vendor-boot");
  EXPECT_EQ(paths_of(*held), "ramdisks/ramdisk-0 ramdisks/modules");
  EXPECT_EQ(text_at(*held, "ramdisks/modules").size(), 200u);
}

TEST(VendorBoot, APageOfNothingIsRefused) {
  Canvas image(4096);
  image.text(0, "VNDRBOOT");
  image.u32(8, 4);
  auto format = std::find_if(formats().begin(), formats().end(),
                             [](const Format& one) { return one.id == "vendor-boot"; });
  ASSERT_NE(format, formats().end());
  OpenContext context;
  EXPECT_REFUSAL(format->open({make_content(make_memory_source(image.take())), "vendor.img"}, context),
                 Malformed, "vendor boot image header: a page of 0 bytes");
}

// ---- device upgrades

std::uint32_t crc_without_inversion(ByteView bytes) {
  std::uint32_t crc = 0xFFFFFFFF;
  for (Byte b : bytes) {
    crc ^= b;
    for (int i = 0; i < 8; ++i) crc = crc >> 1 ^ ((crc & 1) != 0 ? 0xEDB88320 : 0);
  }
  return crc;
}

Bytes with_suffix(Bytes data) {
  ByteWriter out;
  out.bytes(data).u16(0x0001).u16(0x5678).u16(0x1234).u16(0x0100).text("UFD").u8(16);
  std::uint32_t crc = crc_without_inversion(out.view());
  return out.u32(crc).take();
}

TEST(DeviceUpgrade, TheSuffixTellsTheDevice) {
  Bytes file = with_suffix(noise(3000));
  Held held = open_bytes(file);
  ASSERT_EQ(held.format(), "dfu");
  EXPECT_EQ(text_at(*held, "payload"), as_text(noise(3000)));
  EXPECT_EQ(fact(*held, "for"), "vendor 1234, product 5678, device 0001");
  file[100] ^= 1;
  EXPECT_EQ(open_bytes(file).format(), "none");  // with a wrong sum, sixteen bytes at the end are no proof
}

TEST(DeviceUpgrade, TargetsAndElements) {
  ByteWriter body;
  body.text("DfuSe").u8(1).u32(0).u8(1);
  body.text("Target").u8(0).u32(1).text("flash").zeros(250).u32(2 * 8 + 30).u32(2);
  body.u32(0x08000000).u32(10).text("0123456789").u32(0x08010000).u32(20).zeros(20);
  Bytes file = with_suffix(body.take());
  Held held = open_bytes(file);
  ASSERT_EQ(held.format(), "dfu");
  EXPECT_EQ(paths_of(*held), "flash-0 flash-0/08000000.bin flash-0/08010000.bin");
  EXPECT_EQ(text_at(*held, "flash-0/08000000.bin"), "0123456789");
  EXPECT_TRUE(held->findings().empty());
  file[300] ^= 1;
  EXPECT_TRUE(has_finding(*open_bytes(file), "does not fit its checksum"));
  EXPECT_GT(read_every_prefix(file, "cut.dfu"), 0u);
}

// ---- kernels

TEST(Kernel, TheX86ImageGivesItsPackedKernel) {
  Bytes packed = encode("gzip", noise(2000));
  Canvas image(512 * 3 + 700 + packed.size() + 50);
  image[0x1F1] = 2;
  image[0x1FE] = 0x55;
  image[0x1FF] = 0xAA;
  image.text(0x202, "HdrS");
  image.u16(0x206, 0x20F);
  image.u16(0x20E, 0x300);
  image.text(0x500, "6.1.0-gauge (builder) #1");
  image.u32(0x248, 700);
  image.u32(0x24C, packed.size());
  image.put(512 * 3 + 700, packed);
  Held held = open_bytes(image.take());
  ASSERT_EQ(held.format(), "kernel");
  EXPECT_EQ(paths_of(*held), "setup unpacker-head kernel unpacker");
  EXPECT_EQ(text_at(*held, "kernel"), as_text(packed));
  EXPECT_EQ(fact(*held, "version"), "6.1.0-gauge (builder) #1");
  EXPECT_EQ(fact(*held, "boot protocol"), "2.15");
  EXPECT_EQ(open_bytes(to_bytes(text_at(*held, "setup"))).format(), "none");
}

TEST(Kernel, ArmAndOthers) {
  Bytes packed = encode("gzip", noise(2000));
  Canvas arm(600 + packed.size());
  arm.u32(36, 0x016F2818);
  arm.u32(44, 600 + packed.size());
  arm.put(600, packed);
  Held zimage = open_bytes(arm.take());
  EXPECT_EQ(paths_of(*zimage), "unpacker kernel");
  // the unpacker begins as the image does, and is none
  EXPECT_EQ(open_bytes(to_bytes(text_at(*zimage, "unpacker"))).format(), "none");

  Canvas arm64(4096);
  arm64.text(56, "ARM\x64");
  arm64.u64(16, 8192);
  arm64.u64(24, 2);
  Held held = open_bytes(arm64.take());
  EXPECT_EQ(fact(*held, "processor"), "ARM64");
  EXPECT_EQ(fact(*held, "pages"), "4 KiB");
  EXPECT_EQ(paths_of(*held), "header code");

  Canvas zboot(200 + packed.size());
  zboot.text(0, "MZ");
  zboot.text(4, "zimg");
  zboot.u32(8, 200);
  zboot.u32(12, packed.size());
  zboot.text(24, "gzip");
  zboot.put(200, packed);
  EXPECT_EQ(text_at(*open_bytes(zboot.take()), "kernel"), as_text(packed));
}

// ---- option ROMs

/// An image of the given size; `efi` is the program within it, of any kind.
Bytes rom_image(std::size_t units, unsigned code, bool last, const Bytes& efi = {}) {
  Canvas image(units * 512);
  image[0] = 0x55;
  image[1] = 0xAA;
  image[2] = static_cast<Byte>(units);
  image.u16(24, 28);
  image.text(28, "PCIR");
  image.u16(32, 0x1022);
  image.u16(34, 0x2000);
  image.u16(44, units);
  image[48] = static_cast<Byte>(code);
  image[49] = last ? 0x80 : 0;
  if (!efi.empty()) {
    image.u32(4, 0x0EF1);
    image.u16(22, 64);
    image.put(64, efi);
  }
  return image.take();
}

TEST(OptionRom, ImagesAndPrograms) {
  Bytes rom = rom_image(2, 0, false), second = rom_image(3, 3, true, to_bytes("MZ program"));
  rom.insert(rom.end(), second.begin(), second.end());
  Held held = open_bytes(rom);
  ASSERT_EQ(held.format(), "option-rom");
  EXPECT_EQ(paths_of(*held), "image-0-x86.code image-1-EFI.efi");
  EXPECT_EQ(text_at(*held, "image-1-EFI.efi").substr(0, 10), "MZ program");
  EXPECT_EQ(fact(*held, "for"), "device 1022:2000");
  EXPECT_EQ(open_bytes(to_bytes(text_at(*held, "image-0-x86.code"))).format(), "none");
  rom.resize(1024);
  EXPECT_TRUE(has_finding(*open_bytes(rom), "the image that is to follow at offset 1024 is missing"));
}

// ---- initramfs

/// A member of a cpio archive in the form that the kernel reads.
void add_member(ByteWriter& out, const std::string& name, const Bytes& data) {
  char header[111];
  std::snprintf(header, sizeof(header), "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x", 1u,
                0100644u, 0u, 0u, 1u, 0u, static_cast<unsigned>(data.size()), 0u, 0u, 0u, 0u,
                static_cast<unsigned>(name.size() + 1), 0u);
  out.text(header).text(name).u8(0).align(4).bytes(data).align(4);
}
Bytes cpio_of(const std::string& name, const Bytes& data) {
  ByteWriter out;
  add_member(out, name, data);
  add_member(out, "TRAILER!!!", {});
  out.align(512);
  return out.take();
}

TEST(Initramfs, APackedArchiveBehindAPlainOne) {
  Bytes early = cpio_of("kernel/x86/microcode/GenuineIntel.bin", noise(3000));
  Bytes main = encode("zstd", cpio_of("etc/hostname", to_bytes("gauge\n")));
  Bytes image = early;
  image.insert(image.end(), main.begin(), main.end());
  Held held = open_bytes(image);
  ASSERT_EQ(held.format(), "initramfs");
  EXPECT_EQ(paths_of(*held), "early-1.cpio main.cpio.zst");
  EXPECT_EQ(text_at(*held, "main.cpio.zst"), as_text(main));
  EXPECT_EQ(open_bytes(early).format(), "cpio");
}

// ---- nothing is claimed that only begins so

TEST(FirmwareMarks, OthersAreNotClaimed) {
  Bytes zip = ZipBuilder().add("a", "b").build();
  for (const char* mark :
       {"ANDROID!", "VNDRBOOT", "DMA", "UF2\n", "\x27\x05\x19\x56", "UBI#", "\x85\x19", ":", "S1", "@"}) {
    Bytes bytes = noise(8192, 5);
    std::copy_n(mark, std::string_view(mark).size(), bytes.begin());
    EXPECT_EQ(open_bytes(bytes).format(), "none") << mark;
  }
  EXPECT_EQ(open_bytes(zip).format(), "zip");
}

}  // namespace
}  // namespace operculum

#include "demo/gauge_update.h"

#include <fmt/format.h>

#include "base/text.h"
#include "codec/codec.h"
#include "support/firmware_writer.h"
#include "support/packs.h"
#include "support/squashfs_writer.h"

namespace operculum::demo {
namespace {

using namespace test;

constexpr std::size_t kLoaderSize = 64 << 10, kUpdateSize = 256 << 10, kSettingsSize = 128 << 10;

/// A kernel in the form of ARM boards: code that unpacks what lies behind it.
Bytes kernel(unsigned minor) {
  Bytes plain = noise(40'000, minor);
  ByteWriter text;
  text.text(fmt::format("gauge kernel version 5.{}.1 (workshop@saltmarsh) Mar 01 2026", minor)).u8(0);
  plain.insert(plain.begin(), text.view().begin(), text.view().end());
  Bytes packed = encode("gzip", plain);
  Canvas image(4096 + packed.size());
  image.put(64, noise(3000, 7));
  image.u32(36, 0x016F2818);
  image.u32(44, 4096 + packed.size());
  image.put(4096, packed);
  return image.take();
}

Bytes device_tree() {
  return make_device_tree(
      {"",
       {{"model", zero_ended("Saltmarsh Point tide gauge 2")},
        {"compatible", zero_ended("saltmarsh,gauge-2")}},
       {{"chosen", {{"bootargs", zero_ended("console=ttyS0,115200 root=/dev/mtdblock2")}}},
        {"float", {{"reg", cells({0x40, 0x10})}, {"zero-mm", cell(1240)}, {"inverted", {}}}},
        {"flash@0",
         {{"reg", cells({0, 0x80000})}},
         {{"partitions",
           {{"compatible", zero_ended("fixed-partitions")},
            {"#address-cells", cell(1)},
            {"#size-cells", cell(1)}},
           {{"partition@0",
             {{"label", zero_ended("loader")}, {"reg", cells({0, kLoaderSize})}, {"read-only", {}}}},
            {"partition@10000",
             {{"label", zero_ended("update")}, {"reg", cells({kLoaderSize, kUpdateSize})}}},
            {"partition@50000",
             {{"label", zero_ended("settings")},
              {"reg", cells({kLoaderSize + kUpdateSize, kSettingsSize})}}}}}}}}});
}

Bytes root_file_system(unsigned minor) {
  return make_squashfs(
      {{.path = "etc", .kind = EntryKind::folder},
       {.path = "etc/gauge.conf",
        .data = to_bytes(
            fmt::format("version = 2.{}\nzero_mm = 1240\nevery_s = {}\n", minor, minor == 4 ? 300 : 360))},
       {.path = "etc/start.sh", .data = to_bytes("#!/bin/sh\nread_float | log\n"), .mode = 0755},
       {.path = "usr", .kind = EntryKind::folder},
       {.path = "usr/read_float", .data = noise(20'000, 3), .mode = 0755}},
      {.codec = BlockCodec::xz});
}

/// Settings that were changed once: the flash keeps both versions of the file.
Bytes settings() {
  Jffs2Writer flash;
  std::string first = "station = 2\nmast_light = off\n", second = "station = 2\nmast_light = on \n";
  flash.folder(1, 2, "etc")
      .file(2, 3, "station.conf", to_bytes(first))
      .piece(3, 0100644, 2, 0, to_bytes(second), static_cast<std::uint32_t>(second.size()));
  flash.file(2, 4, "wifi.conf", to_bytes("name = harbour\n"), 1)
      .file(2, 5, "wifi.conf", to_bytes("name = museum\n"), 2);
  return flash.build(kSettingsSize);
}

}  // namespace

std::string gauge_update_key() {
  return to_hex(noise(16, 21));
}

Bytes gauge_update(unsigned minor) {
  Bytes bundle = make_fit(fmt::format("tide gauge update 2.{}", minor),
                          {{"kernel", "kernel", kernel(minor)},
                           {"tree", "flat_dt", device_tree()},
                           {"rootfs", "filesystem", root_file_system(minor)},
                           {"calibration", "firmware", to_bytes("step,mm\n0,0\n1,12\n2,25\n"), noise(16, 21),
                            noise(16, 22), "gauge update"}},
                          true);
  return make_swell(fmt::format("2.{}.0", minor), {{"bundle.itb", bundle}, {"settings.jffs2", settings()}});
}

Bytes gauge_flash() {
  Bytes chip = make_boot_image("gauge loader 1.2", noise(30'000, 5), 5);
  chip.resize(kLoaderSize, 0xFF);
  Bytes update = gauge_update(3);
  chip.insert(chip.end(), update.begin(), update.end());
  chip.resize(kLoaderSize + kUpdateSize, 0xFF);
  Bytes kept = settings();
  chip.insert(chip.end(), kept.begin(), kept.end());
  chip.resize(512 << 10, 0xFF);
  return chip;
}

}  // namespace operculum::demo

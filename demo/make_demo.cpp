// Makes the Saltmarsh Point demo data: what lies on the desk of a museum technician who revives retired
// exhibits. usage: make_demo FOLDER
#include <fmt/format.h>

#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <map>
#include <string>

#include "base/checksum.h"
#include "codec/codec.h"
#include "demo/gauge_update.h"
#include "support/cab_writer.h"
#include "support/chart_store.h"
#include "support/disk_writer.h"
#include "support/ext_writer.h"
#include "support/fat_writer.h"
#include "support/msi_writer.h"
#include "support/packs.h"
#include "support/pe_writer.h"
#include "support/squashfs_writer.h"
#include "support/tar_builder.h"
#include "support/zip_builder.h"

namespace {

using namespace operculum;
using namespace operculum::test;

void write(const std::filesystem::path& path, const Bytes& bytes) {
  std::filesystem::create_directories(path.parent_path());
  std::ofstream file(path, std::ios::binary);
  file.write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
  std::printf("%s  %zu bytes\n", path.filename().c_str(), bytes.size());
}

/// A picture in the plain "portable pixmap" form: rings of water around a creature's colour.
Bytes picture(int size, int red, int green, int blue) {
  Bytes bytes = to_bytes(fmt::format("P6\n{} {}\n255\n", size, size));
  for (int y = 0; y < size; ++y) {
    for (int x = 0; x < size; ++x) {
      double distance = std::hypot(x - size / 2.0, y - size / 2.0);
      double wave = distance < size / 4.0 ? 1.0 : 0.5 + 0.5 * std::sin(distance / 3);
      for (int part : {red, green, blue}) bytes.push_back(static_cast<Byte>(part * wave));
    }
  }
  return bytes;
}

/// A sound in the WAVE form: surf, by a small linear congruential generator.
Bytes sound(std::size_t samples) {
  ByteWriter out;
  out.text("RIFF")
      .u32(36 + samples * 2)
      .text("WAVEfmt ")
      .u32(16)
      .u16(1)
      .u16(1)
      .u32(8000)
      .u32(16000)
      .u16(2)
      .u16(16)
      .text("data")
      .u32(samples * 2);
  std::uint32_t state = 1;
  for (std::size_t i = 0; i < samples; ++i) {
    state = state * 1664525 + 1013904223;
    out.u16(static_cast<std::uint64_t>(static_cast<int>(state >> 20) - 2048) & 0xffff);
  }
  return out.take();
}

std::string tide_table() {
  std::string text = "Saltmarsh Point, tide gauge 2: high water\n";
  for (int day = 1; day <= 31; ++day)
    text += fmt::format("2026-03-{:02}  {:02}:{:02}  {:.2f} m\n", day, (day * 50 / 60) % 24, day * 50 % 60,
                        4.1 + 0.9 * std::sin(day / 4.7));
  return text;
}

ZipBuilder tidepool_pack() {
  ZipBuilder pack;
  pack.folder("textures").folder("sounds").folder("scripts");
  struct Creature {
    const char* name;
    int red, green, blue;
  };
  for (auto [name, red, green, blue] : {Creature{"crab", 220, 80, 40},
                                        {"anemone", 200, 60, 160},
                                        {"limpet", 150, 140, 110},
                                        {"starfish", 230, 140, 30}}) {
    pack.add({.name = fmt::format("textures/{}.ppm", name), .data = picture(96, red, green, blue)});
  }
  pack.add({.name = "sounds/surf.wav", .data = sound(12000), .codec = "zstd", .method = 93});
  pack.add({.name = "scripts/tide.lua",
            .data = to_bytes("-- raises and lowers the water\nfunction tide(minute)\n  return 2.1 + 2.0 * "
                             "math.sin(minute / 745 * 2 * math.pi)\nend\n")});
  pack.add({.name = "scripts/start.sh",
            .data = to_bytes("#!/bin/sh\nexec ./tidepool --pack tidepool.skin\n"),
            .unix_mode = 0100755});
  pack.add("credits.txt", "The tide-pool game, made for the hall of Saltmarsh Point.\n");
  pack.comment("tide-pool game, exhibit 7");
  return pack;
}

Bytes exhibit_backup() {
  Bytes pack = tidepool_pack().build();
  Bytes kiosk = ZipBuilder()
                    .stored("packs/tidepool.skin", pack)
                    .add("kiosk.ini", "[kiosk]\npack = packs/tidepool.skin\nidle = 90\n")
                    .build();
  return TarBuilder()
      .folder("opt")
      .folder("opt/kiosk")
      .folder("etc")
      .file("etc/hostname", "exhibit-7\n")
      .add({.name = "opt/kiosk/kiosk.zip", .data = kiosk})
      .add({.name = "opt/kiosk/run", .data = to_bytes("#!/bin/sh\nexec /opt/kiosk/tidepool\n"), .mode = 0755})
      .symbolic("opt/kiosk/latest", "kiosk.zip")
      .build();
}

/// The exhibit's next build: a script and a picture changed, a file moved, one new, one gone.
Bytes next_exhibit_build() {
  ZipBuilder pack;
  Bytes crab = picture(96, 220, 80, 40);
  for (std::size_t i = 9000; i < 9600; i += 3) crab[i] = 255;  // a white spot on its back
  pack.folder("textures").folder("sounds").folder("scripts");
  pack.add({.name = "textures/crab.ppm", .data = crab});
  pack.add({.name = "textures/anemone.ppm", .data = picture(96, 200, 60, 160)});
  pack.add({.name = "textures/starfish.ppm", .data = picture(96, 230, 140, 30)});
  pack.add({.name = "textures/urchin.ppm", .data = picture(96, 90, 60, 130)});
  pack.add({.name = "sounds/surf.wav", .data = sound(12000)});
  pack.add({.name = "scripts/tide.lua",
            .data = to_bytes(
                "-- raises and lowers the water\nfunction tide(minute)\n  local range = 2.0\n  return 2.1 + "
                "range * math.sin(minute / 745 * 2 * math.pi)\nend\n")});
  pack.add({.name = "scripts/start.sh",
            .data = to_bytes("#!/bin/sh\nexec ./tidepool --pack tidepool.skin\n"),
            .unix_mode = 0100755});
  pack.add("docs/credits.txt", "The tide-pool game, made for the hall of Saltmarsh Point.\n");
  Bytes kiosk = ZipBuilder()
                    .stored("packs/tidepool.skin", pack.build())
                    .add("kiosk.ini", "[kiosk]\npack = packs/tidepool.skin\nidle = 60\n")
                    .build();
  return TarBuilder()
      .folder("opt")
      .folder("opt/kiosk")
      .folder("etc")
      .file("etc/hostname", "exhibit-8\n")
      .add({.name = "opt/kiosk/kiosk.zip", .data = kiosk})
      .add({.name = "opt/kiosk/run", .data = to_bytes("#!/bin/sh\nexec /opt/kiosk/tidepool\n"), .mode = 0755})
      .symbolic("opt/kiosk/latest", "kiosk.zip")
      .build();
}

/// A shelf of the museum's backups, in whatever each helper packed with: the log that was lost in April is in
/// two of them, and one has it two containers deep.
void write_backups(const std::filesystem::path& shelf) {
  std::string march = tide_table(), april = march + "2026-04-01  00:50  4.38 m  the mark was under water\n";
  write(shelf / "gauge-02.zip", ZipBuilder().add("notes.txt", "The gauge was cleaned.\n").build());
  write(shelf / "gauge-03.tar.gz",
        encode("gzip",
               TarBuilder().folder("logs").add({.name = "logs/tide.log", .data = to_bytes(march)}).build()));
  Bytes computer =
      encode("xz", TarBuilder()
                       .folder("home")
                       .add({.name = "home/gauge/tide.log", .data = to_bytes(april), .mtime = 1775034000})
                       .build());
  write(shelf / "office-04.zip", ZipBuilder()
                                     .stored("pc-2.tar.xz", computer)
                                     .add("letters/visit.txt", "The school comes on Tuesday.\n")
                                     .build());
  write(shelf / "gauge-05.tar.zst",
        encode("zstd",
               TarBuilder().file("notes.txt", "The log is gone! It was there at low water.\n").build()));
}

/// Packs that the tide-pool game loads one over the other: each may hide files of those before it.
void write_loading_folder(const std::filesystem::path& folder) {
  write(folder / "1-base.skin", tidepool_pack().build());
  write(folder / "2-harbour.tar",
        TarBuilder()
            .folder("textures")
            .add({.name = "textures/limpet.ppm", .data = picture(96, 150, 140, 110)})
            .add({.name = "textures/crab.ppm", .data = picture(96, 90, 120, 160)})
            .build());
  write(folder / "3-winter.skin",
        ZipBuilder()
            .add({.name = "textures/starfish.ppm", .data = picture(96, 210, 220, 240)})
            .add("scripts/tide.lua", "function tide(minute) return 1.2 end\n")
            .build());
  write(folder / "10-crabs" / "textures" / "crab.ppm", picture(96, 250, 40, 40));
}

/// What the exhibit computer boots from: a FAT partition with the loader's settings, and a Linux one whose
/// media lie in a SquashFS image, the tide-pool game's pack among them.
Bytes exhibit_card() {
  Bytes pack = pack_number(0).bytes;
  SampleTree media = {{.path = "packs", .kind = EntryKind::folder},
                      {.path = "packs/tidepool.shoal", .data = pack},
                      {.path = "packs/tidepool.skin", .data = tidepool_pack().build()},
                      {.path = "credits.txt", .data = to_bytes("Made for the hall of Saltmarsh Point.\n")},
                      {.path = "surf.wav", .data = sound(24000)}};
  SampleTree system = {
      {.path = "etc", .kind = EntryKind::folder},
      {.path = "home", .kind = EntryKind::folder},
      {.path = "opt", .kind = EntryKind::folder},
      {.path = "opt/kiosk", .kind = EntryKind::folder},
      {.path = "etc/hostname", .data = to_bytes("exhibit-7\n")},
      {.path = "opt/kiosk/run",
       .data = to_bytes("#!/bin/sh\nexec /opt/kiosk/tidepool --media media.squashfs\n"),
       .mode = 0755},
      {.path = "opt/kiosk/media.squashfs", .data = make_squashfs(media, {.codec = BlockCodec::zstd})},
      {.path = "opt/kiosk/current", .kind = EntryKind::symbolic_link, .target = "media.squashfs"},
      {.path = "home/tides.txt", .data = to_bytes(tide_table()), .user = 1000, .group = 1000}};
  SampleTree boot = {
      {.path = "loader", .kind = EntryKind::folder},
      {.path = "loader/entries.conf", .data = to_bytes("title exhibit\noptions quiet kiosk=tidepool\n")},
      {.path = "KERNEL.IMG", .data = noise(120'000)}};
  return make_gpt({{make_fat(boot, 12, "BOOT"), "boot", "c12a7328-f81f-11d2-ba4b-00a0c93ec93b"},
                   {make_ext(system, 4 << 20, "exhibit"), "kiosk"}});
}

/// An entry in the middle is damaged: what a card with a bad block gives.
Bytes damaged_gauge() {
  ZipBuilder builder;
  for (int month = 1; month <= 6; ++month) builder.add(fmt::format("2026-{:02}.txt", month), tide_table());
  Bytes zip = builder.build();
  for (std::size_t i = 0; i < 40; ++i) zip[zip.size() / 3 + i] ^= 0x5a;
  return zip;
}

Bytes installer() {
  Bytes stub = to_bytes("MZ");
  stub.resize(4096, 0x90);  // stands for the program that would unpack the rest
  return ZipBuilder()
      .add("chart-display/charts/harbour.txt", "depths in metres\n")
      .add("chart-display/read-me.txt", "Start the chart display with chart.exe.\n")
      .prefix(stub)
      .build();
}

/// A program that holds a database that holds a cabinet: what installs the chart display.
Bytes chart_display() {
  std::map<std::string, Bytes> files = {
      {"chart.exe", make_pe({}, {.code = noise(20'000)})},
      {"charts/estuary.ppm", picture(96, 60, 130, 190)},
      {"charts/harbour.ppm", picture(64, 190, 120, 40)},
      {"tides.csv", to_bytes(tide_table())},
      {"when-ready.vbs", to_bytes("MsgBox \"High water is at noon.\"\r\n")}};
  CabFolder folder{.method = CabMethod::lzx};
  for (const auto& [path, data] : files)
    folder.files.push_back({fmt::format("f{}", folder.files.size() + 1), data});
  Bytes database = make_msi(sample_msi(files, make_cab({folder}), "#display.cab"));
  Bytes icon = ByteWriter().u32(40).u32(16).u32(32).u16(1).u16(24).zeros(24).take();
  Bytes rings = picture(16, 60, 130, 190);
  icon.insert(icon.end(), rings.end() - 16 * 16 * 3, rings.end());
  icon.resize(icon.size() + 64);  // the mask
  Bytes group =
      ByteWriter().u16(0).u16(1).u16(1).u8(16).u8(16).u16(0).u16(1).u16(24).u32(icon.size()).u16(1).take();
  return make_pe({{.type = 3, .number = 1, .data = icon},
                  {.type = 14, .number = 1, .data = group},
                  {.type = 16,
                   .number = 1,
                   .data = make_version({{"CompanyName", "Saltmarsh Point"},
                                         {"ProductName", "Chart Display"},
                                         {"ProductVersion", "2.1.0"}})},
                  {.type = 24, .number = 1, .data = to_bytes("<assembly manifestVersion=\"1.0\"/>\n")},
                  {.type = 10, .number = 101, .data = database}});
}

/// The flash memory of a tide gauge, read out chip and all: a loader, a file system, settings, a packed log.
Bytes gauge_dump() {
  Bytes dump = noise(0x3000, 12);
  const auto fill_to = [&](std::size_t size) { dump.resize(size, 0xFF); };
  const auto append = [&](const Bytes& part) { dump.insert(dump.end(), part.begin(), part.end()); };
  fill_to(0x4000);
  append(make_squashfs(
      {{.path = "etc", .kind = EntryKind::folder},
       {.path = "etc/gauge.conf", .data = to_bytes("zero_mm = 1240\nevery_s = 360\n")},
       {.path = "etc/start.sh", .data = to_bytes("#!/bin/sh\nread_float | log\n"), .mode = 0755},
       {.path = "usr", .kind = EntryKind::folder},
       {.path = "usr/tides.txt", .data = to_bytes(tide_table())}},
      {.codec = BlockCodec::xz}));
  fill_to(0x8000);
  append(make_cab({{{{"float.tab", to_bytes("step,mm\n0,0\n1,12\n2,25\n")}}}}));
  fill_to(0x9000);
  append(encode("gzip", to_bytes(tide_table())));
  return dump;
}

Bytes locked() {
  ZipBuilder zip;
  zip.add({.name = "gauge/firmware-key.txt",
           .data = to_bytes("key of the tide gauge: 7f 3a 91 c4\n"),
           .password = "high water 1987",
           .aes_strength = 3});
  zip.add({.name = "gauge/calibration.csv",
           .data = to_bytes("step,mm\n0,0\n1,12\n2,25\n"),
           .password = "high water 1987",
           .aes_strength = 3});
  return zip.build();
}

}  // namespace

int main(int argc, char** argv) {
  if (argc != 2) {
    std::fputs("usage: make_demo FOLDER\n", stderr);
    return 2;
  }
  std::filesystem::path folder = argv[1];
  write(folder / "tidepool.skin", tidepool_pack().build());
  write(folder / "exhibit-7.tar.xz", encode("xz", exhibit_backup()));
  write(folder / "exhibit-8.tar.zst", encode("zstd", next_exhibit_build()));
  write_backups(folder / "backups");
  write_loading_folder(folder / "loading");
  write(folder / "gauge-logs.zip", damaged_gauge());
  write(folder / "chart-setup.exe", installer());
  write(folder / "chart-display.exe", chart_display());
  write(folder / "gauge-keys.zip", locked());
  for (unsigned year : {19u, 24u})
    write(folder / fmt::format("packs/charts-{}.hob", year), chart_store(year).bytes);
  write(folder / "tide-gauge.dump", gauge_dump());
  for (unsigned minor : {3u, 4u})
    write(folder / fmt::format("gauge-update-2.{}.swell", minor), demo::gauge_update(minor));
  write(folder / "gauge-flash.bin", demo::gauge_flash());
  write(folder / "tides.txt.gz", encode("gzip", to_bytes(tide_table())));
  Bytes card = exhibit_card();
  write(folder / "exhibit-card.img", card);
  write(folder / "exhibit-card.qcow2",
        make_qcow2(card, {.codec = BlockCodec::zstd, .snapshot = "before the storm"}));
  write(folder / "postcard.zip", picture(64, 40, 120, 200));
  write(folder / "gauge-password.txt", to_bytes("high water 1987\n"));
  for (std::size_t number = 0; number < kPacks; ++number) {
    const Pack& pack = pack_number(number);
    if (std::filesystem::exists(folder / "packs" / pack.name)) continue;  // one of each family is enough here
    write(folder / "packs" / pack.name, pack.bytes);
    for (const auto& [name, bytes] : pack.beside) write(folder / "packs" / name, bytes);
  }
  write(folder / "config" / "operculum" / "keys.toml",
        to_bytes("[[key]]\nname = \"gauge master\"\npassword = \"high water mark!\"\n\n[[key]]\nname = "
                 "\"gauge update\"\nhex = \"" +
                 demo::gauge_update_key() + "\"\n"));
  return 0;
}

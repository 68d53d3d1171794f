#include "fuzz/seeds.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/numbers.h"
#include "codec/codec.h"
#include "container/format.h"
#include "container/rewrite.h"
#include "support/apfs_writer.h"
#include "support/bitlocker_writer.h"
#include "support/cab_writer.h"
#include "support/cfb_writer.h"
#include "support/corestorage_writer.h"
#include "support/disk_writer.h"
#include "support/encrypted_image_writer.h"
#include "support/ext_writer.h"
#include "support/fat_writer.h"
#include "support/firmware_writer.h"
#include "support/hfs_writer.h"
#include "support/iso_writer.h"
#include "support/ldm_writer.h"
#include "support/lzo_writer.h"
#include "support/msi_writer.h"
#include "support/ntfs_writer.h"
#include "support/old_zip_packers.h"
#include "support/package_writer.h"
#include "support/pe_writer.h"
#include "support/seals.h"
#include "support/spiffs_writer.h"
#include "support/squashfs_old_writer.h"
#include "support/squashfs_writer.h"
#include "support/udf_writer.h"
#include "support/verity_writer.h"

namespace operculum::fuzz {
namespace {

using namespace test;

constexpr std::size_t kMost = 256 << 10;  // structures lie in front of that

using Seeds = std::map<std::string, Bytes>;

void write(Seeds& seeds, const std::string& name, Bytes bytes) {
  bytes.resize(std::min(bytes.size(), kMost));
  seeds[name] = std::move(bytes);
}

SampleTree tree() {
  return {{.path = "pool", .kind = EntryKind::folder},
          {.path = "pool/deep", .kind = EntryKind::folder},
          {.path = "crab.txt", .data = to_bytes("pinch\n")},
          {.path = "pool/deep/limpet of the northern mole.bin", .data = noise(9000)},
          {.path = "pool/tide.csv", .data = Bytes(20'000, 'x')}};
}

/// Whole images, small enough to be written again.
void write_packed(Seeds& seeds, const SampleTree& files) {
  std::vector<NewEntry> entries;
  for (const SampleNode& node : files) {
    NewEntry entry;
    entry.path = node.path;
    entry.kind = node.kind;
    entry.size = node.data.size();
    if (node.kind == EntryKind::file) entry.content = make_content(make_memory_source(node.data));
    entries.push_back(std::move(entry));
  }
  OpenContext context;
  Writing writing{{}, context.spool, [](const std::string&, const std::string&) {}};
  for (const Format& format : formats()) {
    bool wanted = format.family == "file system" || format.id == "cab" || format.id == "cfb";
    if (!wanted || !format.pack) continue;
    SourcePtr made = format.pack(entries, writing).source();
    write(seeds, fmt::format("whole-{}", format.id), read_up_to(*made, 0, made->size()));
  }
}

void write_volumes(Seeds& seeds) {
  write(seeds, "ldm", dynamic_disk(1));
  write(seeds, "bitlocker", write_bitlocker({.sector = 512, .clear_key = true}, Bytes(kBitLockerSize, 'x')));
  write(seeds, "corestorage", make_corestorage({.encrypted = false}));
  write(seeds, "corestorage-locked", make_corestorage({}));
  write(seeds, "encrypted-image", sealed({}, noise(2000)));
  write(seeds, "verity", make_hash_tree(1, 20).tree);
}

/// The first byte is the target's choice of the dialect.
void write_old_codecs(Seeds& seeds) {
  std::string text;
  for (int i = 0; i < 60; ++i) text += fmt::format("tide {} at gauge {}\n", i * i, i % 7);
  auto with = [](Byte choice, const Bytes& packed) {
    Bytes all = {choice};
    all.insert(all.end(), packed.begin(), packed.end());
    return all;
  };
  ByteView plain = as_bytes(text);
  write(seeds, "decode-old-zip-shrink", with(0, pack_shrink(plain, true)));
  write(seeds, "decode-old-zip-reduce", with(3, pack_reduce(plain, 3)));
  write(seeds, "decode-old-zip-implode", with(0x60, pack_implode(plain, 6)));
  write(seeds, "decode-old-zip-dcl", with(0x11, pack_dcl_implode(plain, true, 5)));
  write(seeds, "run-ranges-rules",
        to_bytes("00-7f copy 1, 80-fe repeat 3, ff zeros wide 2\naaaaaaabcd" + text));
}

void write_firmware(Seeds& seeds) {
  constexpr const char* kGuid = "11111111-2222-3333-4444-555555555555";
  Bytes tree = make_device_tree(
      {"", {{"model", zero_ended("gauge")}, {"reg", cells({1, 2})}}, {{"chosen", {{"a", cell(1)}}}}});
  write(seeds, "device-tree", tree);
  write(seeds, "fit", make_fit("update", {{"kernel-1", "kernel", noise(500)}, {"fdt-1", "flat_dt", tree}}));
  write(seeds, "fit-behind", make_fit("update", {{"kernel-1", "kernel", noise(500)}}, true));
  write(seeds, "boot-image", make_boot_image("gauge", noise(300)));
  write(seeds, "boot-images", make_multi_boot_image({noise(100), noise(50)}));
  write(seeds, "jffs2", Jffs2Writer().folder(1, 2, "etc").file(2, 3, "a.txt", Bytes(9000, 'x')).build());
  write(seeds, "jffs2-big", Jffs2Writer(std::endian::big).file(1, 2, "a.txt", to_bytes("tide")).build());
  Bytes file = uefi_file(
      kGuid, 7, {uefi_section(0x13, Bytes{6, 8}), uefi_section(0x10, noise(100)), uefi_name("Tide")});
  Bytes inner = uefi_section(0x17, uefi_volume({file}, 4096));
  Bytes packed = uefi_guided("ee4e5898-3914-4259-9d6e-dc7bd79403cf", encode("lzma-alone", inner));
  write(seeds, "uefi", uefi_volume({uefi_file(kGuid, 0x0B, {packed}), file}, 8192));
  write(seeds, "uefi-variables",
        uefi_volume({uefi_variables({{"Lang", to_bytes("eng")}}, 1024)}, 4096,
                    "fff12b8d-7696-4c8b-a985-2747075b4f50"));
  write(seeds, "intel-hex",
        to_bytes(":0B0010006164647265737320676170A7\n:020000040008F2\n:04000000AABBCCDDEE\n:00000001FF\n"));
  write(seeds, "s-record", to_bytes("S00800006761756765EE\nS1051000AABB85\nS9031000EC\n"));
  write(seeds, "ti-txt", to_bytes("@F000\n31 40 00 03\nq\n"));
}

void write_packages(Seeds& seeds, const SampleTree& files) {
  std::vector<CabFile> packed = {{"crab.txt", to_bytes("pinch pinch pinch\n")},
                                 {"pool\\tide.csv", Bytes(5000, 'x')}};
  for (CabMethod method : {CabMethod::stored, CabMethod::mszip, CabMethod::quantum, CabMethod::lzx})
    write(seeds, fmt::format("cab-{}", static_cast<int>(method)), make_cab({{packed, method, 15}}));
  write(seeds, "cfb",
        make_cfb(
            {{.name = u"pool", .storage = true}, {.name = u"crab", .parent = 0, .data = Bytes(5000, 'x')}}));
  std::map<std::string, Bytes> installed = {{"chart.exe", Bytes(900, 'c')}};
  Bytes database = make_msi(sample_msi(installed, make_cab({{{{"f1", installed["chart.exe"]}}}}), "#d"));
  write(seeds, "msi", database);
  write(seeds, "pe",
        make_pe({{.type = 10, .number = 1, .data = to_bytes("tide")},
                 {.type = 16, .data = make_version({{"ProductName", "Tide"}})}},
                {.overlay = make_cab({{packed}})}));
  Bytes script = to_bytes("#!/bin/sh\nexit\n");
  Bytes behind = make_cab({{packed}});
  script.insert(script.end(), behind.begin(), behind.end());
  write(seeds, "carrier", script);
  Bytes dump = noise(100);
  dump.insert(dump.end(), behind.begin(), behind.end());
  write(seeds, "searched", dump);
  write(seeds, "deb", make_deb(files, "#!/bin/sh\n"));
  write(seeds, "rpm", make_rpm(files, {.codec = "stored", .post = "true\n"}));
  write(seeds, "rpm-nameless", make_rpm(files, {.nameless = true}));
  write(seeds, "xar", make_xar(files));
  write(seeds, "wim-lzx", make_wim(files, {.streamed = "crab.txt"})[0]);
  write(seeds, "wim-xpress", make_wim(files, {.packing = WimOptions::Packing::xpress, .solid = true})[0]);
  write(seeds, "chunked-xz", make_chunked_xz(Bytes(3000, 'x'), 1000));
}

void write_small_flash(Seeds& seeds) {
  SpiffsWriter writer(256, 4096, 2, true, true);
  writer.file(1, "/config/station.txt", to_bytes("station=7\n"));
  writer.file(2, "/tide.bin", noise(1500));
  write(seeds, "spiffs", writer.take());
  write(seeds, "lzo", lzo_file("high water\n", true));
  Bytes packed = encode("lzma-alone", Bytes(3000, 'x'));
  Bytes odd(packed.begin(), packed.begin() + 5);
  append_number(odd, 4, 3000);
  odd.insert(odd.end(), packed.begin() + 13, packed.end());
  write(seeds, "lzma-odd", odd);
  Bytes text;
  for (int i = 0; i < 400; ++i) text.push_back(static_cast<Byte>('a' + i * i % 17));
  write(seeds, "deflate", encode("deflate", text));
  for (const char* codec : {"gzip", "bzip2", "zstd", "lz4"}) {
    Bytes members = encode(codec, text), more = encode(codec, Bytes(300, 'x'));
    members.insert(members.end(), more.begin(), more.end());
    write(seeds, std::string("members-") + codec, members);
  }
  write(seeds, "mcuboot", make_mcuboot(noise(200), {.guarded = true}));
  write(seeds, "mcuboot-sealed", make_mcuboot(noise(200), {.key = noise(16), .kek = noise(16)}));
}

}  // namespace

std::map<std::string, Bytes> seeds() {
  Seeds all;
  SampleTree plain = tree(), links = tree();
  links.push_back({.path = "latest", .kind = EntryKind::symbolic_link, .target = "pool/deep"});
  write(all, "ext", make_ext(links, 256 << 10));
  write(all, "whole-ext", make_ext(plain, 200 << 10));
  write_packed(all, plain);
  write(all, "fat12", make_fat(plain, 12));
  write(all, "fat16", make_fat(plain, 16));
  write(all, "exfat", make_exfat(plain));
  constexpr const char* kScattered = "pool/deep/limpet of the northern mole.bin";
  write(all, "ntfs",
        make_ntfs(links, {.packed = "pool/tide.csv", .scattered = kScattered, .streamed = "crab.txt"}));
  write(all, "ntfs-listed", make_ntfs(plain, {.listed = kScattered, .holed = "pool/tide.csv"}));
  write(all, "hfs",
        make_hfs(links, {.packed_kept = "pool/tide.csv",
                         .scattered = "pool/deep/limpet of the northern mole.bin",
                         .attributed = "crab.txt"}));
  write(
      all, "iso",
      make_iso(links, {.packed = "pool/tide.csv", .in_parts = "pool/deep/limpet of the northern mole.bin"}));
  ApfsVolume volume{.tree = links, .packed_kept = "pool/tide.csv"};
  write(all, "apfs", make_apfs({volume}));
  volume.sealed = true;
  write(all, "apfs-sealed", make_apfs({volume, {.name = "other", .tree = plain}}));
  write(all, "squashfs", make_squashfs(links, {.codec = BlockCodec::zlib}));
  write(all, "squashfs-long",
        make_squashfs(links, {.codec = BlockCodec::zstd, .block = 4096, .extended = true}));
  using Packing = OldSquashOptions::Packing;
  write(all, "squashfs-2",
        make_old_squashfs(links, {.major = 2, .big = true, .packing = Packing::lzma_bare}));
  write(all, "squashfs-3", make_old_squashfs(links, {.block = 4096, .indexed = true}));
  write(all, "udf", make_udf(links, {.embedded = false, .sector = 512}));
  write(all, "udf-virtual", make_udf(links, {.partition = UdfPartition::virtual_table, .sector = 512}));
  Bytes disk = make_squashfs(plain);
  write(all, "gpt", make_gpt({{disk, "pool"}}));
  write(all, "mbr", make_mbr({{disk}, {disk}, {disk}, {disk}, {disk}}));
  write(all, "apple", make_apple_map({{disk, "pool", "Apple_HFS"}}));
  write(all, "qcow2", make_qcow2(disk, {.codec = BlockCodec::deflate}));
  write(all, "vhd", make_vhd_fixed(disk));
  write(all, "vmdk", make_vmdk(disk));
  write(all, "vmdk-stream", make_vmdk_stream(disk));
  write(all, "udif", make_udif(disk, BlockCodec::zlib));
  write(all, "android", make_android_sparse(disk));
  write_packages(all, links);
  write_volumes(all);
  write_firmware(all);
  write_old_codecs(all);
  write_small_flash(all);
  return all;
}

}  // namespace operculum::fuzz

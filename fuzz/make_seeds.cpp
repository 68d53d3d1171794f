// Small images of discs, disks and file systems for the fuzz targets to begin with. usage: make_seeds FOLDER
#include <algorithm>
#include <cstdio>
#include <filesystem>
#include <fstream>

#include "support/disk_writer.h"
#include "support/ext_writer.h"
#include "support/fat_writer.h"
#include "support/hfs_writer.h"
#include "support/iso_writer.h"
#include "support/squashfs_writer.h"
#include "support/udf_writer.h"

namespace {

using namespace operculum;
using namespace operculum::test;

constexpr std::size_t kMost = 256 << 10;  // structures lie in front of that

void write(const std::filesystem::path& folder, const char* name, const Bytes& bytes) {
  std::ofstream file(folder / name, std::ios::binary);
  file.write(reinterpret_cast<const char*>(bytes.data()),
             static_cast<std::streamsize>(std::min(bytes.size(), kMost)));
}

SampleTree tree() {
  return {{.path = "pool", .kind = EntryKind::folder},
          {.path = "pool/deep", .kind = EntryKind::folder},
          {.path = "crab.txt", .data = to_bytes("pinch\n")},
          {.path = "pool/deep/limpet of the northern mole.bin", .data = noise(9000)},
          {.path = "pool/tide.csv", .data = Bytes(20'000, 'x')}};
}

}  // namespace

int main(int argc, char** argv) {
  if (argc != 2) {
    std::fputs("usage: make_seeds FOLDER\n", stderr);
    return 2;
  }
  std::filesystem::path folder = argv[1];
  std::filesystem::create_directories(folder);
  SampleTree plain = tree(), links = tree();
  links.push_back({.path = "latest", .kind = EntryKind::symbolic_link, .target = "pool/deep"});
  write(folder, "ext", make_ext(links, 256 << 10));
  write(folder, "fat12", make_fat(plain, 12));
  write(folder, "fat16", make_fat(plain, 16));
  write(folder, "exfat", make_exfat(plain));
  write(folder, "hfs",
        make_hfs(links, {.packed_kept = "pool/tide.csv",
                         .scattered = "pool/deep/limpet of the northern mole.bin",
                         .attributed = "crab.txt"}));
  write(
      folder, "iso",
      make_iso(links, {.packed = "pool/tide.csv", .in_parts = "pool/deep/limpet of the northern mole.bin"}));
  write(folder, "squashfs", make_squashfs(links, {.codec = BlockCodec::zlib}));
  write(folder, "squashfs-long",
        make_squashfs(links, {.codec = BlockCodec::zstd, .block = 4096, .extended = true}));
  write(folder, "udf", make_udf(links, {.embedded = false, .sector = 512}));
  write(folder, "udf-virtual", make_udf(links, {.partition = UdfPartition::virtual_table, .sector = 512}));
  Bytes disk = make_squashfs(plain);
  write(folder, "gpt", make_gpt({{disk, "pool"}}));
  write(folder, "mbr", make_mbr({{disk}, {disk}, {disk}, {disk}, {disk}}));
  write(folder, "apple", make_apple_map({{disk, "pool", "Apple_HFS"}}));
  write(folder, "qcow2", make_qcow2(disk, {.codec = BlockCodec::deflate}));
  write(folder, "vhd", make_vhd_fixed(disk));
  write(folder, "vmdk", make_vmdk(disk));
  write(folder, "vmdk-stream", make_vmdk_stream(disk));
  write(folder, "udif", make_udif(disk, BlockCodec::zlib));
  write(folder, "android", make_android_sparse(disk));
  return 0;
}

#include "rebuild.h"

#include <libdeflate.h>
#include <zstd.h>

#include <fstream>
#include <memory>

#include "base/checksum.h"
#include "support/byte_writer.h"
#include "support/zip_builder.h"
#include "workload.h"

namespace operculum::bench {
namespace {

constexpr std::size_t kFiles = 10'000, kFileSize = 64 << 10;  // 640 MiB, a third of it packed

std::string in_quotes(const std::string& path) {
  return "'" + path + "'";
}

void must(const std::string& command) {
  if (std::system(command.c_str()) != 0) throw std::runtime_error(command + " failed");
}

std::string name_of(std::size_t number) {
  return fmt::format("exhibit-{}.txt", number);
}

/// A stored ZIP archive of 640 MiB, for copying is what is measured.
std::string stored_zip(const Measure& m) {
  std::string path = m.folder + "/rebuild.zip";
  Measure::forked([&] {
    test::ZipBuilder zip;
    for (std::size_t i = 0; i < kFiles; ++i)
      zip.stored(name_of(i), text_like(kFileSize, static_cast<std::uint32_t>(i)));
    write_file(path, zip.build());
  });
  write_file(m.folder + "/new", text_like(kFileSize, 77));
  return path;
}

void rebuild_with(Measure& m, const std::string& what, double goal, std::vector<std::string> more) {
  std::string path = stored_zip(m);
  std::vector<std::string> words = {m.program, "rebuild",
                                    "--quiet", path,
                                    "--set",   name_of(5000) + "=" + m.folder + "/new",
                                    "--into",  m.out() + "/ours.zip"};
  words.insert(words.end(), more.begin(), more.end());
  m.compare(
      what, goal,
      [&] {
        return run({"cp", path, m.out() + "/theirs.zip"}).seconds;
      },
      words, 128 << 20);
  std::filesystem::remove(path);
}

void rebuild_quick(Measure& m) {
  rebuild_with(m, "rebuild a ZIP of 10,000 files, one changed, quick (cp)", 1.25, {"--quick"});
}
void rebuild_whole(Measure& m) {
  rebuild_with(m, "rebuild a ZIP of 10,000 files, one changed (cp)", 2, {});
}

/// A described pack (layouts/shoal.layout) of 640 MiB, stored, for copying is what is measured.
std::string described_pack(const Measure& m) {
  std::string path = m.folder + "/rebuild.shoal";
  Measure::forked([&] {
    constexpr std::uint64_t kHeader = 48, kRow = 40, kUnit = 16;
    std::uint64_t data_at = kHeader + kFiles * kRow;
    test::ByteWriter out;
    out.text("SHOAL\x1a").u16(1).u32(kFiles).u64(kHeader).zeros(28);
    std::vector<Bytes> contents;
    for (std::uint32_t i = 0; i < 16; ++i) contents.push_back(text_like(kFileSize, i));
    for (std::size_t i = 0; i < kFiles; ++i) {
      std::string name = name_of(i);
      name.resize(24);
      out.text(name).u32((data_at + i * kFileSize) / kUnit).u32(kFileSize).u32(kFileSize);
      out.u32(crc32(0, contents[i % contents.size()]));
    }
    std::ofstream file(path, std::ios::binary);
    file.write(reinterpret_cast<const char*>(out.view().data()), static_cast<std::streamsize>(out.size()));
    for (std::size_t i = 0; i < kFiles; ++i) {
      const Bytes& one = contents[i % contents.size()];
      file.write(reinterpret_cast<const char*>(one.data()), static_cast<std::streamsize>(one.size()));
    }
  });
  write_file(m.folder + "/new", text_like(kFileSize - 5000, 77));
  return path;
}

void rebuild_described(Measure& m) {
  std::string path = described_pack(m);
  m.compare(
      "rebuild a described pack of 10,000 entries, one changed (cp)", 1.3,
      [&] {
        return run({"cp", path, m.out() + "/theirs.shoal"}).seconds;
      },
      {m.program, "rebuild", "--quiet", "--quick", path, "--set", name_of(5000) + "=" + m.folder + "/new",
       "--into", m.out() + "/ours.shoal"},
      128 << 20);
  std::filesystem::remove(path);
}

std::string folder_of_files(const Measure& m, std::size_t count = kFiles) {
  std::string folder = m.folder + "/files";
  std::filesystem::create_directories(folder);
  for (std::size_t i = 0; i < count; ++i)
    write_file(folder + "/" + name_of(i), text_like(kFileSize, static_cast<std::uint32_t>(i)));
  return folder;
}

/// One thread, libdeflate in a loop and write.
void pack_raw(const std::string& folder, const std::string& to) {
  std::unique_ptr<libdeflate_compressor, decltype(&libdeflate_free_compressor)> packer(
      libdeflate_alloc_compressor(6), libdeflate_free_compressor);
  std::ofstream out(to, std::ios::binary);
  for (std::size_t i = 0; i < kFiles; ++i) {
    std::ifstream in(folder + "/" + name_of(i), std::ios::binary);
    Bytes plain(kFileSize), packed(libdeflate_deflate_compress_bound(packer.get(), kFileSize));
    in.read(reinterpret_cast<char*>(plain.data()), static_cast<std::streamsize>(plain.size()));
    packed.resize(
        libdeflate_deflate_compress(packer.get(), plain.data(), plain.size(), packed.data(), packed.size()));
    out.write(reinterpret_cast<const char*>(packed.data()), static_cast<std::streamsize>(packed.size()));
  }
}

void pack(Measure& m) {
  std::string folder = folder_of_files(m);
  m.compare(
      "pack 10,000 files into a ZIP (libdeflate in a loop)", 0.6,
      [&] { return Measure::forked([&] { pack_raw(folder, m.out() + "/theirs"); }); },
      {m.program, "pack", "--quiet", folder, "--as", "zip", "--into", m.out() + "/ours.zip"}, 128 << 20);
  std::filesystem::remove_all(folder);
}

constexpr std::size_t kSquashFiles = 1000;  // 64 MiB: level 15 takes its time

/// One thread, libzstd over the same blocks and write.
void squashfs_raw(const std::string& folder, const std::string& to) {
  constexpr int kLevel = 15;
  std::unique_ptr<ZSTD_CCtx, decltype(&ZSTD_freeCCtx)> packer(ZSTD_createCCtx(), ZSTD_freeCCtx);
  std::ofstream out(to, std::ios::binary);
  for (std::size_t i = 0; i < kSquashFiles; i += 2) {  // two files fill a block of 128 KiB
    Bytes plain(2 * kFileSize), packed(ZSTD_compressBound(plain.size()));
    for (std::size_t k = 0; k < 2; ++k) {
      std::ifstream in(folder + "/" + name_of(i + k), std::ios::binary);
      in.read(reinterpret_cast<char*>(plain.data() + k * kFileSize), static_cast<std::streamsize>(kFileSize));
    }
    packed.resize(
        ZSTD_compressCCtx(packer.get(), packed.data(), packed.size(), plain.data(), plain.size(), kLevel));
    out.write(reinterpret_cast<const char*>(packed.data()), static_cast<std::streamsize>(packed.size()));
  }
}

void pack_squashfs(Measure& m) {
  std::string folder = folder_of_files(m, kSquashFiles);
  m.compare(
      "make a SquashFS of 1,000 files with zstd (libzstd)", 0.6,
      [&] { return Measure::forked([&] { squashfs_raw(folder, m.out() + "/theirs"); }); },
      {m.program, "pack", "--quiet", folder, "--as", "squashfs", "--method", "zstd", "--into",
       m.out() + "/ours.squashfs"},
      128 << 20);
  std::filesystem::remove_all(folder);
}

/// The slower of decoding and encoding alone.
void convert(Measure& m) {
  std::string folder = folder_of_files(m), tar = m.folder + "/convert.tar", packed = tar + ".xz";
  must(
      fmt::format("tar cf {} -C {} . && xz -T1 -1 -k {}", in_quotes(tar), in_quotes(folder), in_quotes(tar)));
  std::filesystem::remove_all(folder);
  auto baseline = [&] {
    double decode = run({"sh", "-c", "xz -T1 -dc " + in_quotes(packed) + " > /dev/null"}).seconds;
    double encode = run({"sh", "-c", "zstd -q -T1 -c " + in_quotes(tar) + " > /dev/null"}).seconds;
    return std::max(decode, encode);
  };
  m.compare("convert a tar.xz to tar.zst (slower of both codecs)", 1.15, baseline,
            {m.program, "convert", "--quiet", packed, "--as", "tar.zst", "--into", m.out() + "/ours.tar.zst"},
            160 << 20);
  std::filesystem::remove(tar);
  std::filesystem::remove(packed);
}

}  // namespace

void measure_rebuild(Measure& measure, std::string_view only) {
  const Measure::Row all[] = {{"rebuild", rebuild_quick},
                              {"rebuild-whole", rebuild_whole},
                              {"rebuild-described", rebuild_described},
                              {"pack", pack},
                              {"pack-squashfs", pack_squashfs},
                              {"convert", convert}};
  measure.run_rows(all, only);
}

}  // namespace operculum::bench

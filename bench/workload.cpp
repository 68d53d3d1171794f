#include "workload.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <libdeflate.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>
#include <zstd.h>

#include <cstring>
#include <filesystem>
#include <fstream>
#include <stdexcept>

#include "base/checksum.h"
#include "base/cursor.h"
#include "support/tar_builder.h"
#include "support/zip_builder.h"

namespace operculum::bench {
namespace {

using namespace test;

/// A whole file mapped into memory.
class Mapped {
 public:
  explicit Mapped(const std::string& path) {
    int file = open(path.c_str(), O_RDONLY);
    struct stat status {};
    fstat(file, &status);
    size_ = static_cast<std::size_t>(status.st_size);
    data_ = mmap(nullptr, size_, PROT_READ, MAP_PRIVATE, file, 0);
    close(file);
  }
  ~Mapped() { munmap(data_, size_); }
  Mapped(const Mapped&) = delete;
  Mapped& operator=(const Mapped&) = delete;
  ByteView view() const { return {static_cast<const Byte*>(data_), size_}; }

 private:
  void* data_;
  std::size_t size_;
};

Bytes packed(const Bytes& plain) {
  libdeflate_compressor* compressor = libdeflate_alloc_compressor(6);
  Bytes out(libdeflate_deflate_compress_bound(compressor, plain.size()));
  out.resize(libdeflate_deflate_compress(compressor, plain.data(), plain.size(), out.data(), out.size()));
  libdeflate_free_compressor(compressor);
  return out;
}

}  // namespace

void write_file(const std::string& path, ByteView bytes) {
  std::filesystem::create_directories(std::filesystem::path(path).parent_path());
  int file = open(path.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0644);
  while (!bytes.empty()) {
    ssize_t count = ::write(file, bytes.data(), bytes.size());
    if (count <= 0) throw std::runtime_error("cannot write " + path);
    bytes = bytes.subspan(static_cast<std::size_t>(count));
  }
  close(file);
}

Bytes text_like(std::size_t size, std::uint32_t seed) {
  static const char* const kWords[] = {"tide",    "pool",    "crab", "limpet", "anemone", "high",
                                       "water",   "gauge",   "salt", "marsh",  "wrack",   "barnacle",
                                       "current", "shingle", "reef", "ebb"};
  Bytes bytes;
  bytes.reserve(size + 16);
  std::uint32_t state = seed * 2654435761u + 1;
  while (bytes.size() < size) {
    state = state * 1664525 + 1013904223;
    std::string_view word = kWords[state >> 28];
    bytes.insert(bytes.end(), word.begin(), word.end());
    for (unsigned i = 0; i < ((state >> 20) & 3); ++i)
      bytes.push_back(static_cast<Byte>('0' + ((state >> (8 + 3 * i)) & 7)));
    bytes.push_back(' ');
  }
  bytes.resize(size);
  return bytes;
}

void make_zip_of_files(const std::string& path, std::size_t count, std::size_t size) {
  ZipBuilder zip;
  for (std::size_t i = 0; i < count; ++i) {
    Bytes plain = text_like(size, static_cast<std::uint32_t>(i % 64));
    static std::vector<Bytes> kept(64);
    if (kept[i % 64].empty()) kept[i % 64] = packed(plain);
    zip.add(
        {.name = fmt::format("hall-{}/exhibit-{}.txt", i % 100, i), .data = plain, .stored = kept[i % 64]});
  }
  write_file(path, zip.build());
}

void make_stored_zip(const std::string& path, std::uint64_t size) {
  Bytes data = text_like(static_cast<std::size_t>(size), 5);
  write_file(path, ZipBuilder().stored("card.img", std::move(data)).build());
}

void make_tar_zst(const std::string& path, std::size_t count, std::size_t size) {
  ZSTD_CCtx* context = ZSTD_createCCtx();
  ZSTD_CCtx_setParameter(context, ZSTD_c_compressionLevel, 3);
  std::ofstream file(path, std::ios::binary);
  Bytes out(ZSTD_CStreamOutSize());
  auto feed = [&](const Bytes& bytes, ZSTD_EndDirective end) {
    ZSTD_inBuffer in{bytes.data(), bytes.size(), 0};
    std::size_t left = 0;
    do {
      ZSTD_outBuffer to{out.data(), out.size(), 0};
      left = ZSTD_compressStream2(context, &to, &in, end);
      file.write(reinterpret_cast<const char*>(out.data()), static_cast<std::streamsize>(to.pos));
    } while (in.pos < in.size || (end == ZSTD_e_end && left > 0));
  };
  for (std::size_t i = 0; i < count; ++i) {
    if (i % 500 == 0) feed(TarBuilder().folder(fmt::format("hall-{}", i / 500)).blocks(), ZSTD_e_continue);
    TarItem item{.name = fmt::format("hall-{}/exhibit-{}.txt", i / 500, i),
                 .data = text_like(size, static_cast<std::uint32_t>(i))};
    feed(TarBuilder().add(item).blocks(), ZSTD_e_continue);
  }
  feed(Bytes(1024), ZSTD_e_end);
  ZSTD_freeCCtx(context);
}

void make_zip_of_many(const std::string& path, std::size_t count) {
  // Only the directory matters: all entries are empty and stored.
  ZipBuilder zip;
  for (std::size_t i = 0; i < count; ++i) {
    zip.add({.name = fmt::format("collection/drawer-{}/specimen-{}.txt", i / 1000, i),
             .data = {},
             .codec = "stored",
             .method = 0});
  }
  write_file(path, zip.zip64().build());
}

void make_nested(const std::string& path, const std::string& folder) {
  ZipBuilder inner, middle;
  for (std::uint32_t i = 0; i < 1000; ++i)
    inner.add({.name = fmt::format("textures/{}.raw", i),
               .data = text_like(4096, i),
               .codec = "stored",
               .method = 0});
  middle.stored("packs/tidepool.skin", inner.build());
  TarBuilder tar;
  tar.add({.name = "system.img", .data = text_like(48 << 20, 1)});
  tar.add({.name = "kiosk.zip", .data = middle.build()});
  tar.add({.name = "spare.img", .data = text_like(48 << 20, 2)});
  write_file(folder + "/card.tar", tar.build());
  std::string command = fmt::format("xz -T1 -3 --block-size=1MiB -c {}/card.tar > {}", folder, path);
  if (std::system(command.c_str()) != 0) throw std::runtime_error("xz failed");
}

void unpack_zip_raw(const std::string& path, const std::string& folder) {
  Mapped zip(path);
  libdeflate_decompressor* decompressor = libdeflate_alloc_decompressor();
  Bytes out(1 << 20);
  for (int i = 0; i < 100; ++i) mkdir(fmt::format("{}/hall-{}", folder, i).c_str(), 0755);
  Cursor cursor(zip.view(), "zip");
  while (cursor.u32le() == 0x04034b50) {
    cursor.skip(14);
    std::uint32_t stored = cursor.u32le(), size = cursor.u32le();
    std::uint16_t name_length = cursor.u16le(), extra = cursor.u16le();
    std::string name = folder + "/" + std::string(cursor.text(name_length));
    cursor.skip(extra);
    ByteView data = cursor.take(stored);
    libdeflate_deflate_decompress(decompressor, data.data(), data.size(), out.data(), size, nullptr);
    int file = open(name.c_str(), O_WRONLY | O_CREAT | O_EXCL, 0644);
    if (::write(file, out.data(), size) != static_cast<ssize_t>(size))
      throw std::runtime_error("short write");
    close(file);
  }
  libdeflate_free_decompressor(decompressor);
}

void unpack_tar_zst_raw(const std::string& path, const std::string& folder) {
  ZSTD_DCtx* context = ZSTD_createDCtx();
  int packed_file = open(path.c_str(), O_RDONLY);
  Bytes in_block(ZSTD_DStreamInSize()), plain(4 << 20);
  ZSTD_inBuffer in{in_block.data(), 0, 0};
  std::size_t have = 0, used = 0;
  auto need = [&](std::size_t count) {
    if (have - used >= count) return true;
    std::memmove(plain.data(), plain.data() + used, have - used);
    have -= used;
    used = 0;
    while (have < count) {
      if (in.pos == in.size) {
        ssize_t got = read(packed_file, in_block.data(), in_block.size());
        if (got <= 0) return false;
        in = {in_block.data(), static_cast<std::size_t>(got), 0};
      }
      ZSTD_outBuffer out{plain.data(), plain.size(), have};
      ZSTD_decompressStream(context, &out, &in);
      have = out.pos;
    }
    return true;
  };
  while (need(512)) {
    std::string_view header = as_text(ByteView(plain).subspan(used, 512));
    std::string name(header.substr(0, std::min<std::size_t>(100, header.find('\0'))));
    if (name.empty()) break;
    char type = header[156];
    std::size_t size = std::strtoull(std::string(header.substr(124, 11)).c_str(), nullptr, 8);
    used += 512;
    if (type == '5') {
      mkdir((folder + "/" + name).c_str(), 0755);
      continue;
    }
    std::size_t padded = (size + 511) / 512 * 512;
    need(padded);
    int file = open((folder + "/" + name).c_str(), O_WRONLY | O_CREAT | O_EXCL, 0644);
    if (::write(file, plain.data() + used, size) != static_cast<ssize_t>(size))
      throw std::runtime_error("short write");
    close(file);
    used += padded;
  }
  close(packed_file);
  ZSTD_freeDCtx(context);
}

std::uint64_t list_zip_raw(const std::string& path) {
  Mapped zip(path);
  std::string_view all = as_text(zip.view());
  constexpr std::size_t kEnd = 1 << 16;  // bytes in which the end record lies
  std::size_t last = all.size() - std::min(all.size(), kEnd);
  std::string_view tail = all.substr(last);
  // The directory's place, from the 64-bit end record or the other one.
  std::size_t wide = tail.rfind("PK\6\6"),
              end = wide != std::string_view::npos ? wide + 48 : tail.rfind("PK\5\6") + 16;
  Cursor record(zip.view().subspan(last + end), "end record");
  std::uint64_t at = wide != std::string_view::npos ? record.u64le() : record.u32le(), count = 0;
  Cursor cursor(zip.view().subspan(static_cast<std::size_t>(at)), "directory");
  std::string names;
  int nowhere = open("/dev/null", O_WRONLY);
  while (cursor.u32le() == 0x02014b50) {
    cursor.skip(24);
    std::uint16_t name = cursor.u16le(), extra = cursor.u16le(), comment = cursor.u16le();
    cursor.skip(12);
    names += cursor.text(name);
    names += '\n';
    cursor.skip(extra + comment);
    ++count;
    if (names.size() > 65536) {
      if (::write(nowhere, names.data(), names.size()) < 0) break;
      names.clear();
    }
  }
  close(nowhere);
  return count;
}

}  // namespace operculum::bench

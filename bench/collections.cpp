#include "collections.h"

#include <cstring>
#include <fstream>
#include <thread>

#include "codec/codec.h"
#include "support/tar_builder.h"
#include "support/zip_builder.h"
#include "workload.h"

namespace operculum::bench {
namespace {

using namespace test;

/// 200 ZIPs of 2,000 files; one has the file that is looked for. Only directories are read, so that small
/// files are as good as large ones.
void find_like(Measure& m) {
  constexpr std::size_t kZips = 200, kFiles = 2000;
  std::string shelf = m.folder + "/shelf";
  Bytes wanted = text_like(1 << 20, 7);
  Measure::forked([&] {
    for (std::size_t i = 0; i < kZips; ++i) {
      ZipBuilder zip;
      for (std::size_t file = 0; file < kFiles; ++file)
        zip.stored(fmt::format("exhibit-{}/part-{}.bin", i, file),
                   Bytes(64 + file % 7, static_cast<Byte>(file)));
      if (i == kZips / 2) zip.add({.name = "lost.txt", .data = wanted});
      write_file(fmt::format("{}/{:03}.zip", shelf, i), zip.build());
    }
    write_file(m.folder + "/wanted", wanted);
  });
  m.compare(
      "find --like a 1 MiB file in 200 ZIPs (baseline: directories)", 2.0,
      [&] {
        return Measure::forked([&] {
          for (std::size_t i = 0; i < kZips; ++i) list_zip_raw(fmt::format("{}/{:03}.zip", shelf, i));
        });
      },
      {m.program, "find", shelf, "--like", m.folder + "/wanted", "-q"}, std::uint64_t{128} << 20);
  std::filesystem::remove_all(shelf);
}

/// Decodes all of it and looks for a text, on one thread.
void search_raw(const std::string& path, std::string_view text) {
  std::ifstream file(path, std::ios::binary);
  Bytes packed((std::istreambuf_iterator<char>(file)), {});
  StreamPtr stream = open_decoder("zstd", make_source_stream(make_memory_source(std::move(packed))));
  Bytes block((1 << 20) + text.size());
  std::size_t kept = 0, found = 0;
  while (std::size_t count = stream->read(ByteSpan(block).subspan(kept))) {
    std::size_t filled = kept + count;
    found += memmem(block.data(), filled, text.data(), text.size()) != nullptr ? 1 : 0;
    kept = std::min(filled, text.size() - 1);
    std::memmove(block.data(), block.data() + filled - kept, kept);
  }
  if (found == 0) throw std::runtime_error("the text is not there");
}

void find_text(Measure& m) {
  std::string path = m.folder + "/text.tar.zst";
  constexpr std::string_view kText = "the mark was under water";
  Measure::forked([&] {
    TarBuilder tar;
    for (std::uint32_t i = 0; i < 1024; ++i)
      tar.add({.name = fmt::format("log-{}.txt", i), .data = text_like(1 << 20, i % 16)});
    tar.file("last.txt", kText);
    write_file(path, encode("zstd", tar.build()));
  });
  m.compare(
      "find --text in a 1 GiB tar.zst (baseline: zstd, memmem)", 1.15,
      [&] { return Measure::forked([&] { search_raw(path, kText); }); },
      {m.program, "find", path, "--text", std::string(kText), "-q"}, std::uint64_t{136} << 20);
  std::filesystem::remove(path);
}

void compare_zips(Measure& m) {
  std::string a = m.folder + "/a.zip", b = m.folder + "/b.zip";
  constexpr std::size_t kFiles = 10'000, kSize = 107'374;
  Measure::forked([&] { make_zip_of_files(a, kFiles, kSize); });
  std::filesystem::copy_file(a, b, std::filesystem::copy_options::overwrite_existing);
  m.compare(
      "compare two 1 GiB ZIPs of 10,000 files (baseline: cmp)", 0.25,
      [&] {
        return run({"cmp", a, b}).seconds;
      },
      {m.program, "compare", a, b, "-q"}, std::uint64_t{128} << 20);
  std::filesystem::remove(a);
  std::filesystem::remove(b);
}

void decode_all(const std::string& shelf, std::size_t first, std::size_t count) {
  Bytes block(1 << 20);
  for (std::size_t i = first; i < count; i += 2) {
    std::ifstream file(fmt::format("{}/{:03}.tar.xz", shelf, i), std::ios::binary);
    Bytes packed((std::istreambuf_iterator<char>(file)), {});
    StreamPtr stream = open_decoder("xz", make_source_stream(make_memory_source(std::move(packed))));
    while (stream->read(block) > 0) continue;
  }
}

void catalogue(Measure& m) {
  constexpr std::size_t kPackages = 200;
  std::string shelf = m.folder + "/shelf";
  Measure::forked([&] {
    for (std::size_t i = 0; i < kPackages; ++i) {
      TarBuilder tar;
      for (std::uint32_t file = 0; file < 40; ++file)
        tar.add({.name = fmt::format("usr/share/exhibit-{}/{}.txt", i, file),
                 .data = text_like(24 << 10, static_cast<std::uint32_t>(i) * 40 + file)});
      write_file(fmt::format("{}/{:03}.tar.xz", shelf, i), encode("xz", tar.build()));
    }
  });
  m.compare(
      "catalogue of 200 tar.xz (baseline: decoding on 2 threads)", 1.3,
      [&] {
        return Measure::forked([&] {
          std::thread other([&] { decode_all(shelf, 1, kPackages); });
          decode_all(shelf, 0, kPackages);
          other.join();
        });
      },
      {m.program, "catalogue", m.out() + "/shelf.db", shelf, "-q"}, std::uint64_t{160} << 20);
  std::filesystem::remove_all(shelf);
}

void catalogue_again(Measure& m) {
  constexpr std::size_t kFiles = 100'000;
  std::string shelf = m.folder + "/many", database = m.folder + "/many.db";
  Measure::forked([&] {
    for (std::size_t i = 0; i < kFiles; ++i)
      write_file(fmt::format("{}/{}/{}.txt", shelf, i / 1000, i),
                 Bytes{static_cast<Byte>('a' + i % 20), '\n'});
  });
  run({m.program, "catalogue", database, shelf, "-q"});
  m.compare(
      "catalogue again, 100,000 files unchanged (baseline: find -printf)", 3.0,
      [&] {
        return run({"find", shelf, "-type", "f", "-printf", "%s %T@ %i %p\n"}).seconds;
      },
      {m.program, "catalogue", database, shelf, "-q"}, std::uint64_t{128} << 20);
  std::filesystem::remove_all(shelf);
  for (const char* end : {"", "-wal", "-shm"}) std::filesystem::remove(database + end);
}

}  // namespace

void measure_collections(Measure& measure, std::string_view only) {
  const Measure::Row rows[] = {{"compare", compare_zips},
                               {"find-like", find_like},
                               {"find-text", find_text},
                               {"catalogue", catalogue},
                               {"catalogue-again", catalogue_again}};
  measure.run_rows(rows, only);
}

}  // namespace operculum::bench

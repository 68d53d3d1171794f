#include "packages.h"

#include <libdeflate.h>
#include <unistd.h>

#include <cstring>

#include "format/package/msi_database.h"
#include "io/file_source.h"
#include "support/byte_writer.h"
#include "support/cab_writer.h"
#include "support/msi_writer.h"
#include "workload.h"

namespace operculum::bench {
namespace {

using namespace test;

constexpr std::size_t kSize = 64 << 20, kBlock = 32768;

/// Lines of readings: text that packs to about a third.
Bytes readings(std::size_t size, std::uint32_t state) {
  Bytes out;
  out.reserve(size + 64);
  while (out.size() < size) {
    state = state * 1664525 + 1013904223;
    std::string line = fmt::format("gauge {} reads {}.{:02} m, wind {}\n", state >> 27, state >> 30,
                                   (state >> 20) % 100, (state >> 12) % 37);
    out.insert(out.end(), line.begin(), line.end());
  }
  out.resize(size);
  return out;
}

std::vector<CabFile> files_of(const Bytes& data, std::size_t each) {
  std::vector<CabFile> files;
  for (std::size_t at = 0; at < data.size(); at += each) {
    auto begin = data.begin() + static_cast<std::ptrdiff_t>(at);
    files.push_back({fmt::format("log{}.txt", files.size()),
                     Bytes(begin, begin + static_cast<std::ptrdiff_t>(std::min(each, data.size() - at)))});
  }
  return files;
}

/// The same data in blocks of 32 KiB, each packed by itself: a length and the block, again and again.
Bytes plain_blocks(const Bytes& data) {
  libdeflate_compressor* compressor = libdeflate_alloc_compressor(9);
  ByteWriter out;
  Bytes room(2 * kBlock);
  for (std::size_t at = 0; at < data.size(); at += kBlock) {
    std::size_t size = std::min(kBlock, data.size() - at);
    std::size_t packed =
        libdeflate_deflate_compress(compressor, data.data() + at, size, room.data(), room.size());
    out.u32(packed).u32(size).bytes(ByteView(room).first(packed));
  }
  libdeflate_free_compressor(compressor);
  return out.take();
}

void decode_blocks(const std::string& path) {
  SourcePtr source = open_file(path);
  Bytes raw = read_up_to(*source, 0, source->size()), out(kBlock);
  libdeflate_decompressor* decompressor = libdeflate_alloc_decompressor();
  for (std::size_t at = 0; at + 8 <= raw.size();) {
    std::uint32_t packed = 0, size = 0;
    std::memcpy(&packed, raw.data() + at, 4);
    std::memcpy(&size, raw.data() + at + 4, 4);
    if (libdeflate_deflate_decompress(decompressor, raw.data() + at + 8, packed, out.data(), size, nullptr) !=
        LIBDEFLATE_SUCCESS)
      _exit(1);
    at += 8 + packed;
  }
  libdeflate_free_decompressor(decompressor);
}

void compare_codec(Measure& m, const std::string& what, CabMethod method, double goal) {
  std::string cab = m.folder + "/pack.cab", blocks = m.folder + "/blocks";
  Measure::forked([&] {
    Bytes data = readings(kSize, 3);
    write_file(cab, make_cab({{files_of(data, 1 << 20), method, 18, false}}));
    write_file(blocks, plain_blocks(data));
  });
  fmt::print("  packed to {} where libdeflate takes {}\n", human_size(std::filesystem::file_size(cab)),
             human_size(std::filesystem::file_size(blocks)));
  m.compare(what, goal, [&] { return Measure::forked([&] { decode_blocks(blocks); }); },
            {m.program, "verify", cab});
  std::filesystem::remove(cab);
  std::filesystem::remove(blocks);
}

void mszip(Measure& m) {
  compare_codec(m, "verify 64 MiB of MSZIP (libdeflate, same blocks)", CabMethod::mszip, 1 / 0.85);
}

void lzx(Measure& m) {
  compare_codec(m, "verify 64 MiB of LZX (libdeflate, same data)", CabMethod::lzx, 1 / 0.5);
}

/// Two folders on two threads against the same on one.
void lanes(Measure& m) {
  std::string cab = m.folder + "/pack.cab";
  Measure::forked([&] {
    write_file(cab, make_cab({{files_of(readings(kSize, 3), 1 << 20), CabMethod::mszip},
                              {files_of(readings(kSize, 4), 1 << 20), CabMethod::mszip}}));
  });
  m.compare("two folders side by side (one thread)", 0.65,
            [&] {
              return run({m.program, "verify", cab, "--jobs", "1"}).seconds;
            },
            {m.program, "verify", cab, "--jobs", "2"});
  std::filesystem::remove(cab);
}

/// The baseline reads every value of the tables that a listing takes, once.
void msi(Measure& m) {
  std::string path = m.folder + "/big.msi";
  Measure::forked([&] {
    std::map<std::string, Bytes> files;
    for (int i = 0; i < 50'000; ++i)
      files[fmt::format("charts {}/sheet {}.dat", i / 200, i)] = Bytes(static_cast<std::size_t>(i % 97));
    write_file(path, make_msi(sample_msi(files, {}, "data.cab")));
  });
  auto read_tables = [&] {
    msi::Database database(open_file(path));
    std::size_t sum = 0;
    for (const char* name : {"Directory", "Component", "Media", "MsiFileHash", "File"}) {
      const msi::Table* table = database.table(name);
      for (std::size_t row = 0; row < table->rows(); ++row) {
        for (std::size_t column = 0; column < table->columns().size(); ++column)
          sum += table->columns()[column].is_text()
                     ? table->text(row, column).size()
                     : static_cast<std::size_t>(table->number(row, column).value_or(0));
      }
    }
    if (sum == 0) _exit(1);
  };
  m.compare("list a database of 50,000 files (its tables read once)", 3.0,
            [&] { return Measure::forked(read_tables); },
            {m.program, "list", path, "--output", m.out() + "/list.txt"});
  std::filesystem::remove(path);
}

}  // namespace

void measure_packages(Measure& measure, std::string_view only) {
  const Measure::Row all[] = {{"mszip", mszip}, {"lzx", lzx}, {"lanes", lanes}, {"msi", msi}};
  measure.run_rows(all, only);
}

}  // namespace operculum::bench

#include "study.h"

#include <fmt/format.h>

#include <fstream>

#include "codec/codec.h"
#include "io/file_source.h"
#include "support/byte_writer.h"
#include "support/sample_tree.h"
#include "workload.h"

namespace operculum::bench {
namespace {

using namespace test;

/// 64 MiB: a table of 1,000 records at the front, half of the entries packed.
void write_pack(const std::string& path) {
  constexpr std::uint32_t kEntries = 1000, kRecord = 40;
  ByteWriter table, data;
  std::size_t begin = 16 + std::size_t{kEntries} * kRecord;
  for (std::uint32_t i = 0; i < kEntries; ++i) {
    Bytes plain = i % 2 == 0 ? noise(84 << 10, i + 1) : text_like(200 << 10, i);
    Bytes stored = i % 2 == 0 ? plain : encode("zlib", plain);
    std::string name = fmt::format("soundings/{:04}.snd", i);
    name.resize(24);
    table.text(name).u32(begin + data.size()).u32(stored.size()).u32(plain.size()).u32(0);
    data.bytes(stored);
  }
  ByteWriter head;
  head.text("HARBOURS").u32(kEntries).u32(0).bytes(table.view());
  std::ofstream file(path, std::ios::binary);
  for (ByteView part : {head.view(), data.view()})
    file.write(reinterpret_cast<const char*>(part.data()), static_cast<std::streamsize>(part.size()));
}

void unknown_pack(Measure& m) {
  std::string path = m.folder + "/soundings.hrb";
  Measure::forked([&] { write_pack(path); });
  auto pack_whole = [&] {
    StreamPtr packed = open_encoder("zlib", make_source_stream(open_file(path)), {});
    packed->skip(UINT64_MAX);
  };
  m.compare(
      "study an unknown pack (packing it with zlib)", 4.0, [&] { return Measure::forked(pack_whole); },
      {m.program, "study", "--draft", m.out() + "/draft.layout", path}, std::uint64_t{384} << 20);
  std::filesystem::remove(path);
}

}  // namespace

void measure_study(Measure& measure, std::string_view only) {
  const Measure::Row all[] = {{"study", unknown_pack}};
  measure.run_rows(all, only);
}

}  // namespace operculum::bench

#include "firmware.h"

#include <array>

#include "codec/codec.h"
#include "io/file_source.h"
#include "support/firmware_writer.h"
#include "support/sample_tree.h"
#include "support/squashfs_writer.h"
#include "workload.h"

namespace operculum::bench {
namespace {

using namespace test;

constexpr const char* kGuid = "11111111-2222-3333-4444-555555555555";

/// Calls `use` with the file in blocks.
template <typename Use>
void each_block(const std::string& path, const Use& use) {
  SourcePtr source = open_file(path);
  Bytes block(1 << 20);
  for (std::uint64_t at = 0; at < source->size();) {
    std::size_t count = source->read_at(at, block);
    use(ByteView(block).first(count));
    at += count;
  }
}

/// Nothing to be found in 256 MiB, and a file system behind them.
void search(Measure& m) {
  std::string path = m.folder + "/dump.bin";
  Measure::forked([&] {
    Bytes dump;
    for (std::uint32_t i = 0; i < 16; ++i) {
      Bytes part = i % 2 == 0 ? noise(16 << 20, i + 1) : text_like(16 << 20, i);
      dump.insert(dump.end(), part.begin(), part.end());
    }
    Bytes behind = make_squashfs({{.path = "a.txt", .data = to_bytes("tide\n")}});
    dump.insert(dump.end(), behind.begin(), behind.end());
    write_file(path, dump);
  });
  auto look_at_each = [&] {
    std::array<std::uint64_t, 256> counts{};
    each_block(path, [&](ByteView block) {
      for (Byte b : block) ++counts[b];
    });
    if (counts[0] == 0) std::abort();
  };
  m.compare("search 256 MiB for containers (counting its bytes)", 3.5,
            [&] { return Measure::forked(look_at_each); }, {m.program, "list", "--paths", "--search", path});
  std::filesystem::remove(path);
}

void jffs2(Measure& m) {
  std::string path = m.folder + "/flash.jffs2";
  Measure::forked([&] {
    Jffs2Writer flash;
    for (std::uint32_t i = 0; i < 1000; ++i)
      flash.file(1, i + 2, fmt::format("log-{}.bin", i), noise(128 << 10, i + 1));
    write_file(path, flash.build());
  });
  std::uint64_t sum = 0;
  m.compare(
      "list a JFFS2 of 1,000 files, 130 MiB (reading it)", 3.0,
      [&] { return Measure::forked([&] { each_block(path, [&](ByteView block) { sum += block[0]; }); }); },
      {m.program, "list", path});
  std::filesystem::remove(path);
}

void uefi(Measure& m) {
  std::string path = m.folder + "/chip.fd", packed_path = m.folder + "/volume.lzma";
  Measure::forked([&] {
    std::vector<Bytes> files;
    for (std::uint32_t i = 0; i < 100; ++i)
      files.push_back(
          uefi_file(fmt::format("{:08x}-2222-3333-4444-555555555555", i), 7,
                    {uefi_section(0x10, text_like(60 << 10, i)), uefi_name(fmt::format("Driver{}", i))}));
    Bytes packed = encode("lzma-alone", uefi_section(0x17, uefi_volume(files, 8 << 20)));
    write_file(packed_path, packed);
    Bytes section = uefi_guided("ee4e5898-3914-4259-9d6e-dc7bd79403cf", packed);
    write_file(path, uefi_volume({uefi_file(kGuid, 0x0B, {section})}, 8 << 20));
  });
  auto decode = [&] {
    StreamPtr stream = open_decoder("lzma-alone", make_source_stream(open_file(packed_path)));
    stream->skip(UINT64_MAX);
  };
  m.compare("list a packed UEFI volume of 100 drivers (decoding it)", 1.5,
            [&] { return Measure::forked(decode); }, {m.program, "list", path});
  std::filesystem::remove(path);
  std::filesystem::remove(packed_path);
}

}  // namespace

void measure_firmware(Measure& measure, std::string_view only) {
  const Measure::Row all[] = {{"search", search}, {"jffs2", jffs2}, {"uefi", uefi}};
  measure.run_rows(all, only);
}

}  // namespace operculum::bench

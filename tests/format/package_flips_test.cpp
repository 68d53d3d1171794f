// Damage of single bits in every package format.
#include <gtest/gtest.h>

#include "codec/codec.h"
#include "support/byte_writer.h"
#include "support/cab_writer.h"
#include "support/cfb_writer.h"
#include "support/msi_writer.h"
#include "support/open.h"
#include "support/package_writer.h"
#include "support/pe_writer.h"
#include "support/zip_builder.h"

namespace operculum {
namespace {

using namespace test;

constexpr std::size_t kFlips = 400;

Bytes text(std::size_t lines) {
  std::string out;
  for (std::size_t i = 0; i < lines; ++i) out += "depth " + std::to_string(i * 7 % 311) + " m\n";
  return to_bytes(out);
}

SampleTree small_tree() {
  return {{.path = "pool", .kind = EntryKind::folder},
          {.path = "pool/chart.txt", .data = text(90), .mode = 0644},
          {.path = "pool/raw.bin", .data = noise(300)},
          {.path = "pool/latest", .kind = EntryKind::symbolic_link, .target = "chart.txt"}};
}

Bytes small_cab(CabMethod method) {
  return make_cab({{{{"chart.txt", text(60)}, {"raw.bin", noise(200)}}, method, 16, false}});
}

Bytes small_msi() {
  return make_msi(sample_msi({{"chart.txt", text(60)}}, make_cab({{{{"f1", text(60)}}}}), "#disk1.cab"));
}

Bytes small_script() {
  Bytes out = to_bytes("#!/bin/sh\ntail -n +4 \"$0\" | tar xz\nexit\n");
  Bytes packed = encode("gzip", text(90));
  out.insert(out.end(), packed.begin(), packed.end());
  return out;
}

Bytes small_program() {
  Bytes zip = ZipBuilder().add("tide.txt", "high\n").build();
  return make_pe(
      {{.type = 3, .number = 1, .data = noise(64)},
       {.type = 14,
        .number = 101,
        .data = ByteWriter().u16(0).u16(1).u16(1).u8(32).u8(32).u16(0).u16(1).u16(32).u32(64).u16(1).take()},
       {.type = 16, .number = 1, .data = make_version({{"ProductName", "Tide Gauge"}})},
       {.type_name = "PACK", .name = "TIDES", .data = zip}},
      {.code = small_cab(CabMethod::stored),
       .overlay = small_cab(CabMethod::mszip),
       .signature = Bytes(40, 's')});
}

struct Sample {
  const char* name;
  const char* format;
  std::function<Bytes()> make;
};

void PrintTo(const Sample& sample, std::ostream* out) {
  *out << sample.name;
}

using Packing = WimOptions::Packing;

const Sample kSamples[] = {
    {"cab_stored", "cab", [] { return small_cab(CabMethod::stored); }},
    {"cab_mszip", "cab", [] { return small_cab(CabMethod::mszip); }},
    {"cab_quantum", "cab", [] { return small_cab(CabMethod::quantum); }},
    {"cab_lzx", "cab", [] { return small_cab(CabMethod::lzx); }},
    {"cfb", "cfb",
     [] {
       return make_cfb({{.name = u"a", .data = text(500)},
                        {.name = u"s", .storage = true},
                        {.name = u"b", .parent = 1, .data = text(9)}});
     }},
    {"msi", "msi", small_msi},
    {"pe", "pe", small_program},
    {"script", "carrier", small_script},
    {"deb", "deb", [] { return make_deb(small_tree(), "#!/bin/sh\necho ready\n"); }},
    {"rpm_gzip", "rpm", [] { return make_rpm(small_tree(), {.post = "echo ready\n"}); }},
    {"rpm_nameless", "rpm", [] { return make_rpm(small_tree(), {.codec = "stored", .nameless = true}); }},
    {"xar", "xar", [] { return make_xar(small_tree()); }},
    {"wim_lzx", "wim",
     [] { return make_wim(small_tree(), {.packing = Packing::lzx, .streamed = "pool/chart.txt"})[0]; }},
    {"wim_xpress", "wim",
     [] { return make_wim(small_tree(), {.packing = Packing::xpress, .images = 2})[0]; }},
    {"wim_solid", "wim", [] { return make_wim(small_tree(), {.packing = Packing::lzx, .solid = true})[0]; }},
    {"chunked_xz", "chunked-xz", [] { return make_chunked_xz(text(400), 1000); }},
};

struct Flips : testing::TestWithParam<Sample> {};

TEST_P(Flips, EndInAnErrorOrTheSameBytes) {
  Bytes bytes = GetParam().make();
  ASSERT_EQ(open_bytes(bytes).format(), GetParam().format);
  // Cabinets sum up blocks, and say elsewhere which bytes of them are a file's.
  bool summed = GetParam().format != std::string("cab");
  EXPECT_GT(read_with_flips(bytes, kFlips, summed), kFlips / 20);
}

INSTANTIATE_TEST_SUITE_P(Packages, Flips, testing::ValuesIn(kSamples),
                         [](const auto& one) { return std::string(one.param.name); });

}  // namespace
}  // namespace operculum

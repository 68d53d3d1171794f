#include <gtest/gtest.h>

#include "format/archive/formats.h"
#include "support/byte_writer.h"
#include "support/open.h"
#include "support/sample_tree.h"

namespace operculum {
namespace {

using namespace test;

Bytes chunk(std::string_view name, const Bytes& data, bool big = false) {
  ByteWriter out;
  out.text(name);
  big ? out.u32be(data.size()) : out.u32(data.size());
  return out.bytes(data).align(2).take();
}
Bytes list(std::string_view name, std::string_view kind, const std::vector<Bytes>& chunks, bool big = false) {
  ByteWriter out;
  out.text(kind);
  for (const Bytes& one : chunks) out.bytes(one);
  return chunk(name, out.take(), big);
}

Held open_chunks(const Bytes& bytes) {
  return open_bytes(bytes, "sample", As::file,
                    [](OpenContext& context) { context.preferred.push_back(asked_riff_format()); });
}

Bytes surf() {
  return list("RIFF", "WAVE",
              {chunk("fmt ", Bytes(16, 1)), list("LIST", "INFO", {chunk("INAM", to_bytes("surf"))}),
               chunk("data", noise(101))});
}

TEST(Chunks, AreFilesAndListsAreFolders) {
  Held held = open_chunks(surf());
  ASSERT_EQ(held.format(), "riff");
  EXPECT_EQ(paths_of(*held),
            "RIFF-WAVE RIFF-WAVE/fmt RIFF-WAVE/LIST-INFO RIFF-WAVE/LIST-INFO/INAM RIFF-WAVE/data");
  EXPECT_EQ(text_at(*held, "RIFF-WAVE/LIST-INFO/INAM"), "surf");
  EXPECT_EQ(text_at(*held, "RIFF-WAVE/data"), as_text(noise(101)));
  EXPECT_TRUE(held->findings().empty());
}

TEST(Chunks, AreShownOnlyWhenAskedFor) {
  EXPECT_EQ(open_bytes(surf()).format(), "none");
}

TEST(Chunks, BigEndianAnd64BitSizes) {
  EXPECT_EQ(text_at(*open_chunks(list("FORM", "ILBM", {chunk("BODY", to_bytes("crab"), true)}, true)),
                    "FORM-ILBM/BODY"),
            "crab");
  EXPECT_EQ(text_at(*open_chunks(list("RIFX", "WAVE", {chunk("data", to_bytes("crab"), true)}, true)),
                    "RIFX-WAVE/data"),
            "crab");
  Bytes sizes = ByteWriter().u64(0).u64(6).u64(0).u32(0).take();
  ByteWriter out;
  out.text("RF64")
      .u32(0xFFFFFFFF)
      .text("WAVE")
      .bytes(chunk("ds64", sizes))
      .text("data")
      .u32(0xFFFFFFFF)
      .text("urchin");
  Bytes bytes = out.take();
  for (int i = 0; i < 8; ++i)
    bytes[20 + static_cast<std::size_t>(i)] = static_cast<Byte>((bytes.size() - 8) >> (8 * i));
  EXPECT_EQ(text_at(*open_chunks(bytes), "RF64-WAVE/data"), "urchin");
}

TEST(Chunks, CutsAreTold) {
  Bytes bytes = surf();
  bytes.resize(bytes.size() - 40);
  EXPECT_TRUE(has_finding(*open_chunks(bytes), "it is cut short"));
  Bytes odd = surf();
  odd[20] ^= 0x80;
  Held held = open_chunks(odd);
  held->entries();
}

}  // namespace
}  // namespace operculum

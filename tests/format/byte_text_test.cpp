// Bytes written as text, and UF2.
#include <gtest/gtest.h>

#include <algorithm>

#include "container/format.h"
#include "support/byte_writer.h"
#include "support/has.h"
#include "support/open.h"
#include "support/sample_tree.h"

namespace operculum {
namespace {

using namespace test;

Held open_text(const std::string& text, const std::string& view = "") {
  return open_bytes(to_bytes(text), "sample", As::file, [&](OpenContext& context) { context.view = view; });
}

std::string facts_of(Container& container) {
  std::string out;
  for (const auto& [name, value] : container.facts()) out += name + ": " + value + "\n";
  return out;
}

constexpr const char* kIntel =
    ":0B0010006164647265737320676170A7\n"
    ":020000040008F2\n"
    ":04000000AABBCCDDEE\n"
    ":0400000508000101ED\n"
    ":00000001FF\n";

TEST(IntelHex, RangesAndGaps) {
  Held held = open_text(kIntel);
  ASSERT_EQ(held.format(), "intel-hex");
  EXPECT_EQ(paths_of(*held), "image.bin");
  std::string image = text_of(*held, 0);
  EXPECT_EQ(image.size(), 0x80004u - 0x10u);
  EXPECT_EQ(image.substr(0, 11), "address gap");
  EXPECT_EQ(image.substr(11, 100), std::string(100, '\0'));
  EXPECT_EQ(image.substr(image.size() - 4), "\xAA\xBB\xCC\xDD");
  EXPECT_TRUE(has(facts_of(*held), "start: 0x8000101"));
  EXPECT_TRUE(entry_at(*held, "image.bin").is(Entry::sparse));
  EXPECT_EQ(paths_of(*open_text(kIntel, "ranges")), "00000010-image.bin 00080000-image.bin");
}

TEST(IntelHex, SegmentsWrapWithinThemselves) {
  Held held = open_text(":020000021000EC\n:04FFFE0001020304F5\n:00000001FF\n", "ranges");
  EXPECT_EQ(paths_of(*held), "00010000-image.bin 0001fffe-image.bin");
}

TEST(IntelHex, DamageIsToldByLine) {
  std::string text = kIntel;
  text[45] = '1';
  Held held = open_text(text);
  EXPECT_TRUE(has_finding(*held, "line 2: its checksum is"));
  std::string cut(kIntel);
  cut.resize(cut.find(":00000001"));
  EXPECT_TRUE(has_finding(*open_text(cut), "the line that ends the file is missing"));
}

TEST(SRecords, AllWidthsCountsAndStarts) {
  Held held = open_text(
      "S00800006761756765EE\n"
      "S1051000AABB85\n"
      "S206020000CCDD4E\n"
      "S30703000000EEFF08\n"
      "S5030003F9\n"
      "S9031000EC\n",
      "ranges");
  ASSERT_EQ(held.format(), "s-record");
  EXPECT_EQ(paths_of(*held), "00001000-image.bin 00020000-image.bin 03000000-image.bin");
  EXPECT_TRUE(has(facts_of(*held), "name: gauge"));
  EXPECT_TRUE(has(facts_of(*held), "start: 0x1000"));
  EXPECT_TRUE(held->findings().empty());
}

TEST(AddressedText, TiAndVerilog) {
  Held ti = open_text("@F000\n31 40 00 03\n@FFFE\n00 F0\nq\n");
  ASSERT_EQ(ti.format(), "ti-txt");
  EXPECT_EQ(text_of(*ti, 0).size(), 0x1000u);
  EXPECT_EQ(text_of(*ti, 0).substr(0, 2), "1@");
  Held verilog = open_text("// made by hand\n@00000010\n41 42 /* two */\n43\n@20\n44\n");
  ASSERT_EQ(verilog.format(), "verilog-hex");
  EXPECT_EQ(text_of(*verilog, 0), "ABC" + std::string(13, '\0') + "D");
  Held words = open_text("@00000002\n41424344 45464748\n");
  EXPECT_EQ(text_of(*words, 0), "ABCDEFGH");
  EXPECT_TRUE(has_finding(*words, "words of 4 bytes"));
}

TEST(ByteText, TextsThatOnlyBeginSoAreLeftAlone) {
  for (const char* text :
       {":smile: to you\n", "Saltmarsh Point\n", "@home in the marsh\n", "S1 is a sensor\nS2 too\n",
        "@12 people came\n", "/* a program\n * @12\n * 00 11\n */\nint main() { return 0; }\n",
        "// one\n// @two\n// three\n// 4\n// 5\n// 6\n// 7\n// 8\n// 9\n"})
    EXPECT_EQ(open_text(text).format(), "none") << text;
}

TEST(ByteText, SurvivesCutsAndFlips) {
  EXPECT_GT(read_every_prefix(to_bytes(kIntel), "cut.hex"), 0u);
  EXPECT_GT(read_with_flips(to_bytes(kIntel), 300, false), 0u);
}

TEST(MemoryImages, LaterBytesReplaceEarlierOnes) {
  Held held = open_text(":0400000041424344F2\n:0200010078790C\n:00000001FF\n");
  EXPECT_TRUE(held.format() == "intel-hex");
  EXPECT_EQ(text_of(*held, 0), "AxyD");
  EXPECT_TRUE(has_finding(*held, "given twice"));
}

Bytes uf2_block(std::uint32_t flags, std::uint32_t address, std::uint32_t number, std::uint32_t count,
                std::uint32_t family, const std::string& data, const std::string& name = "") {
  ByteWriter out;
  out.u32(0x0A324655)
      .u32(0x9E5D5157)
      .u32(flags)
      .u32(address)
      .u32(data.size())
      .u32(number)
      .u32(count)
      .u32(family)
      .text(data)
      .text(name);
  return out.zeros(508 - out.size()).u32(0x0AB16F30).take();
}

TEST(Uf2, FamiliesAndFiles) {
  Bytes file;
  for (const Bytes& block : {uf2_block(0x2000, 0x10000000, 0, 2, 0xe48bff56, "tide"),
                             uf2_block(0x2000, 0x10000004, 1, 2, 0xe48bff56, "pool"),
                             uf2_block(0x1000, 0, 0, 1, 4, "crab", "notes.txt")})
    file.insert(file.end(), block.begin(), block.end());
  Held held = open_bytes(file);
  ASSERT_EQ(held.format(), "uf2");
  EXPECT_EQ(paths_of(*held), "notes.txt rp2040.bin");
  EXPECT_EQ(text_at(*held, "rp2040.bin"), "tidepool");
  EXPECT_EQ(text_at(*held, "notes.txt"), "crab");
  file[600] ^= 1;
  file[512] ^= 1;
  EXPECT_TRUE(has_finding(*open_bytes(file), "1 of 3 blocks are damaged"));
  EXPECT_GT(read_every_prefix(file, "cut.uf2"), 0u);
}

/// What is found in a text that is opened as one of these formats, whatever it looks like.
std::string found_in(std::string_view id, const std::string& text) {
  OpenContext context;
  auto format = std::ranges::find(formats(), id, &Format::id);
  ContainerPtr container =
      format->open({make_content(make_memory_source(to_bytes(text))), "sample"}, context);
  std::string out;
  for (const Finding& finding : container->findings()) out += finding.text + "\n";
  return out;
}

TEST(ByteText, RecordsThatMakeNoSenseAreToldByLine) {
  EXPECT_TRUE(has(found_in("intel-hex", ":0B0010006164647265737320676170A7\n:00000006FA\n:00000001FF\n"),
                  "line 2: its record kind is 6, known are 0 to 5"));
  EXPECT_TRUE(has(found_in("s-record", "S1050000AABB95\nS5030005F7\nS9030000FC\n"),
                  "line 2: it counts 5 records, there are 1"));
  EXPECT_TRUE(has(found_in("verilog-hex", "@00000010\n4142 4344\n414243\n"),
                  "line 3: it has words of 2 and of 3 bytes"));
}

}  // namespace
}  // namespace operculum

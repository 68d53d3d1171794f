// Codecs of older programs within descriptions.
#include <gtest/gtest.h>

#include "support/bit_writer.h"
#include "support/has.h"
#include "support/language_case.h"
#include "support/old_zip_packers.h"
#include "support/quantum_writer.h"

namespace operculum {
namespace {

using namespace test;

/// One entry whose stored bytes are all that is there.
std::string unpacked(const std::string& codec, Bytes packed, std::size_t size) {
  Described d("entry { path = \"a\"; data = rest(0) | " + codec + "; size = " + std::to_string(size) + " }",
              std::move(packed));
  return d.content("a");
}

Bytes plain() {
  std::string text;
  for (int i = 0; i < 200; ++i) text += "the tide at gauge " + std::to_string(i % 17) + " is low; ";
  return to_bytes(text);
}

TEST(OldCodecs, AreNamedInDescriptions) {
  std::string text(as_text(plain()));
  std::size_t size = text.size();
  EXPECT_EQ(unpacked("shrink", pack_shrink(plain(), false), size), text);
  EXPECT_EQ(unpacked("reduce(3)", pack_reduce(plain(), 3), size), text);
  EXPECT_EQ(unpacked("implode", pack_implode(plain(), 0), size), text);
  EXPECT_EQ(unpacked("implode(8192, 3)", pack_implode(plain(), 6), size), text);
  EXPECT_EQ(unpacked("implode(window = 8192, trees = 2)", pack_implode(plain(), 2), size), text);
  EXPECT_EQ(unpacked("dcl_implode", pack_dcl_implode(plain(), true, 5), size), text);
}

TEST(OldCodecs, RefuseParametersThatCannotBe) {
  EXPECT_TRUE(has(unpacked("reduce(5)", Bytes(9), 9), "reduce: a factor of 5; 1 to 4 are known"));
  EXPECT_TRUE(has(unpacked("implode(1000)", Bytes(9), 9), "implode: a window of 1000 bytes and 2 trees"));
  EXPECT_TRUE(
      has(unpacked("nrv(\"c\")", Bytes(9), 9), "nrv: the form \"c\" is not known; it is one of b, d, e"));
  EXPECT_TRUE(has(unpacked("nrv(word = 12)", Bytes(9), 9), "nrv: words of 12 bits"));
  EXPECT_TRUE(has(unpacked("quantum(16)", Bytes(9), 40000), "quantum data of 40000 bytes"));
  EXPECT_TRUE(
      has(unpacked("rle(\"ranges\", ranges = \"zz copy\")", Bytes(9), 9), "has no codes from 00 to ff"));
}

TEST(OldCodecs, ReadNrvBitByBit) {
  // literal a, literal b, then a copy: upper part 3 (bits 1 1), low byte 1: distance 2; length bits 1 0: 2 +
  // 1
  Bytes packed = {0b11011101, 'a', 'b', 1, 0b00000000};
  EXPECT_EQ(unpacked("nrv(\"b\", 8)", packed, 5), "ababa");
}

TEST(OldCodecs, ReadRunLengthsByRanges) {
  EXPECT_EQ(unpacked("rle(\"ranges\", ranges = \"00-7f copy 1, 80-ff repeat 2\")",
                     Bytes{1, 'h', 'i', 0x81, '!'}, 5),
            "hi!!!");
}

TEST(OldCodecs, ReadAChunkOfQuantum) {
  std::string text(as_text(plain()));
  Bytes packed = pack_quantum(plain(), 16)[0];
  EXPECT_EQ(unpacked("quantum(16)", packed, text.size()), text);
}

}  // namespace
}  // namespace operculum

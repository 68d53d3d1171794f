// Shrinking, reducing and imploding, against packers that are written from their description.
#include <gtest/gtest.h>

#include "base/error.h"
#include "codec/codec.h"
#include "support/bit_writer.h"
#include "support/old_zip_packers.h"
#include "support/sample_tree.h"

namespace operculum {
namespace {

using namespace test;

Bytes decode(std::string_view codec, ByteView packed, std::optional<std::uint64_t> size, Byte flags = 0) {
  CodecOptions options;
  options.unpacked_size = size;
  options.properties = {flags};
  SourcePtr source = make_memory_source(Bytes(packed.begin(), packed.end()));
  return read_all(*open_decoder(codec, make_source_stream(source), options), 1 << 24);
}

/// Texts that repeat near and far, noise, runs, every byte.
std::vector<Bytes> plains() {
  std::vector<Bytes> all = {{}, {7}, to_bytes("AIAIAIAIAIAIA"), Bytes(5000, 0), Bytes(3000, 144)};
  Bytes text, noise;
  std::uint32_t state = 5;
  for (int i = 0; i < 9000; ++i) {
    state = state * 1664525 + 1013904223;
    std::string line = "tide " + std::to_string(state >> 25) + " at gauge " + std::to_string(i % 97) + "\n";
    text.insert(text.end(), line.begin(), line.end());
    noise.push_back(static_cast<Byte>(state >> 24));
  }
  all.push_back(text);
  all.push_back(noise);
  Bytes mixed;
  for (int i = 0; i < 40; ++i) {
    mixed.insert(mixed.end(), text.begin() + i * 100, text.begin() + i * 150 + 600);
    mixed.insert(mixed.end(), noise.begin() + i * 10, noise.begin() + i * 10 + 300);
  }
  all.push_back(mixed);
  return all;
}

TEST(OldZipCodecs, ShrunkDataComesBack) {
  for (const Bytes& plain : plains()) {
    for (bool clears : {false, true})
      EXPECT_EQ(decode("shrink", pack_shrink(plain, clears), plain.size()), plain) << plain.size() << clears;
    EXPECT_EQ(decode("shrink", pack_shrink(plain, true), std::nullopt), plain) << "the size is not known";
  }
}

TEST(OldZipCodecs, ReducedDataComesBackWithEachFactor) {
  for (const Bytes& plain : plains()) {
    for (unsigned factor = 1; factor <= 4; ++factor)
      EXPECT_EQ(decode("reduce-" + std::to_string(factor), pack_reduce(plain, factor), plain.size()), plain)
          << plain.size() << " factor " << factor;
  }
}

TEST(OldZipCodecs, ImplodedDataComesBackWithTwoAndThreeTrees) {
  for (const Bytes& plain : plains()) {
    for (Byte flags : {0, 2, 4, 6})
      EXPECT_EQ(decode("implode", pack_implode(plain, flags), plain.size(), flags), plain)
          << plain.size() << " flags " << int{flags};
  }
}

TEST(OldZipCodecs, ImplodedStreamsComeBackAndEndThemselves) {
  for (const Bytes& plain : plains()) {
    for (unsigned window = 4; window <= 6; ++window) {
      for (bool coded : {false, true})
        EXPECT_EQ(decode("dcl-implode", pack_dcl_implode(plain, coded, window), std::nullopt), plain)
            << plain.size() << " window " << window << coded;
    }
  }
}

TEST(OldZipCodecs, ReadsThePublishedExampleOfAnImplodedStream) {
  EXPECT_EQ(
      as_text(decode("dcl-implode", Bytes{0x00, 0x04, 0x82, 0x24, 0x25, 0x8f, 0x80, 0x7f}, std::nullopt)),
      "AIAIAIAIAIAIA");
}

TEST(OldZipCodecs, CopiesFromBeforeTheStartAreZeros) {
  // six bits of length 6 for 64 codes: 4 rows of 16
  BitWriter out;
  for (int tree = 0; tree < 2; ++tree) {
    out.put(3, 8);
    for (int row = 0; row < 4; ++row) out.put(5, 4).put(15, 4);
  }
  out.put(0, 1).put(9, 6).code(0x3f, 6).code(0x3f - 5, 6);  // distance 10, length 7
  EXPECT_EQ(decode("implode", out.take(), 7), Bytes(7, 0));
}

std::string sentence(std::string_view codec, ByteView packed, std::uint64_t size, Byte flags = 0) {
  try {
    decode(codec, packed, size, flags);
    return "";
  } catch (const Error& error) {
    return error.what();
  }
}

TEST(OldZipCodecs, TellWhatIsDamaged) {
  EXPECT_EQ(sentence("shrink", BitWriter().put('a', 9).put(300, 9).put(260, 9).take(), 9),
            "shrunk data: code 300 stands for no string; the data is damaged");
  EXPECT_EQ(sentence("shrink", BitWriter().put('a', 9).put(256, 9).put(7, 9).take(), 9),
            "shrunk data: instruction 7; the data is damaged");
  EXPECT_EQ(sentence("shrink", BitWriter().put(400, 9).take(), 9),
            "shrunk data: code 400 stands for no string; the data is damaged");
  EXPECT_EQ(sentence("shrink", Bytes{}, 9), "shrunk data: the data ends too early; it is cut short");
  EXPECT_EQ(sentence("reduce-2", BitWriter().put(40, 6).take(), 9),
            "reduced data: 40 followers of a byte, 32 at most; the data is damaged");
  EXPECT_EQ(sentence("implode", BitWriter().put(0, 8).put(5, 4).put(15, 4).take(), 9),
            "imploded data: a tree of 16 codes where 64 were expected; the data is damaged");
  EXPECT_EQ(sentence("dcl-implode", Bytes{2, 6}, 9), "imploded data: a header of 02 06; the data is damaged");
  EXPECT_EQ(sentence("dcl-implode", Bytes{0, 4, 0x05, 0x80, 0xff}, 9),
            "imploded data: a copy from before the start; the data is damaged");
}

TEST(OldZipCodecs, EndWhateverIsDamaged) {
  Bytes plain = plains().back();
  std::uint32_t state = 11;
  struct Case {
    std::string_view codec;
    Bytes packed;
    Byte flags;
  };
  for (const Case& one :
       {Case{"shrink", pack_shrink(plain, true), 0}, Case{"reduce-3", pack_reduce(plain, 3), 0},
        Case{"implode", pack_implode(plain, 6), 6},
        Case{"dcl-implode", pack_dcl_implode(plain, true, 6), 0}}) {
    for (int i = 0; i < 60; ++i) {
      Bytes damaged = one.packed;
      for (int flips = 0; flips < 3; ++flips) {
        state = state * 1664525 + 1013904223;
        damaged[(state >> 8) % damaged.size()] ^= static_cast<Byte>(1u << (state >> 5 & 7));
      }
      try {
        EXPECT_LE(decode(one.codec, damaged, plain.size(), one.flags).size(), plain.size());
      } catch (const Malformed&) {
      }
    }
  }
}

}  // namespace
}  // namespace operculum

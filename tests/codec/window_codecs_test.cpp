// LZX, Quantum, XPRESS and MSZIP: against encoders written from the specifications, and vectors of those.
#include <gtest/gtest.h>

#include <algorithm>

#include "base/error.h"
#include "codec/lzx.h"
#include "codec/mszip.h"
#include "codec/quantum.h"
#include "codec/xpress.h"
#include "support/lzx_writer.h"
#include "support/quantum_writer.h"
#include "support/refusal.h"
#include "support/sample_tree.h"
#include "support/xpress_writer.h"

namespace operculum {
namespace {

using namespace test;

/// Text, noise, machine code with calls, and long runs.
Bytes sample(std::size_t size) {
  Bytes out;
  std::uint32_t state = 5;
  while (out.size() < size) {
    state = state * 1664525 + 1013904223;
    std::string line =
        "gauge " + std::to_string(state >> 27) + " reads " + std::to_string(state >> 20 & 63) + " dm\n";
    out.insert(out.end(), line.begin(), line.end());
    if (state >> 28 == 3) {
      Bytes random = noise(300, state);
      out.insert(out.end(), random.begin(), random.end());
    }
    if (state >> 28 == 7) out.insert(out.end(), 700, Byte{0x90});
    if (state >> 29 == 5) {
      Bytes call = {0x55, 0xE8, static_cast<Byte>(state), static_cast<Byte>(state >> 8), 0, 0, 0xC3};
      out.insert(out.end(), call.begin(), call.end());
    }
  }
  out.resize(size);
  return out;
}

template <typename Decoder>
Bytes unpack(Decoder& decoder, const std::vector<Bytes>& frames, std::size_t size) {
  Bytes out;
  for (const Bytes& frame : frames) {
    ByteView part = decoder.decode_frame(frame, std::min<std::size_t>(32768, size - out.size()));
    out.insert(out.end(), part.begin(), part.end());
  }
  return out;
}

struct LzxCase {
  unsigned window_bits;
  LzxOptions::Blocks blocks;
  bool translate;
};

struct Lzx : testing::TestWithParam<LzxCase> {};

TEST_P(Lzx, DecodesFrames) {
  Bytes plain = sample(400'001);
  LzxOptions options{.window_bits = GetParam().window_bits, .blocks = GetParam().blocks, .block = 77'777};
  if (GetParam().translate) options.translate = static_cast<std::int32_t>(plain.size());
  std::vector<Bytes> frames = pack_lzx(plain, options);
  ASSERT_EQ(frames.size(), 13u);
  LzxDecoder decoder(options.window_bits);
  EXPECT_EQ(unpack(decoder, frames, plain.size()), plain);
}

using Blocks = LzxOptions::Blocks;
INSTANTIATE_TEST_SUITE_P(
    Forms, Lzx,
    testing::Values(LzxCase{15, Blocks::verbatim, false}, LzxCase{15, Blocks::aligned, false},
                    LzxCase{15, Blocks::plain, false}, LzxCase{16, Blocks::mixed, true},
                    LzxCase{17, Blocks::aligned, true}, LzxCase{18, Blocks::mixed, false},
                    LzxCase{19, Blocks::verbatim, true}, LzxCase{20, Blocks::mixed, true},
                    LzxCase{21, Blocks::aligned, false}));

TEST(Lzx, DecodesChunksThatStandAlone) {
  for (std::size_t size : {1u, 10u, 4000u, 32767u, 32768u}) {
    Bytes plain = sample(size), out(size);
    decode_lzx_chunk(pack_lzx_chunk(plain, 15), out, 15);
    EXPECT_EQ(out, plain) << size;
  }
}

// [MS-PATCH] 2.6 has no data; these 12 bytes are the stored block that its text describes, written by hand.
TEST(Lzx, ReadsAStoredBlockWrittenByHand) {
  // no translation (0), type 3 (011), size 000000000000000000000101, then filled up to a word
  Bytes frame = {0x00, 0x30, 0x50, 0x00, 1, 0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0, 'l', 'i', 'm', 'p', 't', 0};
  LzxDecoder decoder(15);
  ByteView out = decoder.decode_frame(frame, 5);
  EXPECT_EQ(as_text(out), "limpt");
}

TEST(Lzx, RefusesDamage) {
  Bytes plain = sample(60'000);
  std::vector<Bytes> frames = pack_lzx(plain, {.window_bits = 16});
  unsigned refused = 0;
  for (std::size_t i = 0; i < frames[0].size(); i += 7) {
    Bytes bad = frames[0];
    bad[i] ^= 0x10;
    LzxDecoder decoder(16);
    try {
      ByteView out = decoder.decode_frame(bad, 32768);
      EXPECT_EQ(out.size(), 32768u);
    } catch (const Malformed&) {
      ++refused;
    }
  }
  EXPECT_GT(refused, 100u);
  LzxDecoder decoder(16);
  EXPECT_REFUSAL(decoder.decode_frame(ByteView(frames[0]).first(1000), 32768), Malformed,
                 "LZX data: a copy runs beyond its frame");
  EXPECT_REFUSAL(LzxDecoder(22), Malformed, "LZX data: a window of 2^22 bytes is not possible");
}

TEST(Quantum, DecodesFramesOfEveryWindow) {
  Bytes plain = sample(150'003);
  for (unsigned bits = 10; bits <= 21; ++bits) {
    QuantumDecoder decoder(bits);
    EXPECT_EQ(unpack(decoder, pack_quantum(plain, bits), plain.size()), plain) << bits;
  }
}

TEST(Quantum, RefusesDamage) {
  std::vector<Bytes> frames = pack_quantum(sample(32'768), 15);
  QuantumDecoder decoder(15);
  EXPECT_REFUSAL(decoder.decode_frame(ByteView(frames[0]).first(200), 32768), Malformed,
                 "Quantum data: the data ends too early; it is cut short");
  EXPECT_REFUSAL(QuantumDecoder(9), Malformed, "Quantum data: a window of 2^9 bytes is not possible");
  for (std::size_t i = 0; i < frames[0].size(); i += 11) {
    Bytes bad = frames[0];
    bad[i] ^= 0x40;
    QuantumDecoder other(15);
    try {
      EXPECT_EQ(other.decode_frame(bad, 32768).size(), 32768u);
    } catch (const Malformed& error) {
      EXPECT_NE(std::string(error.what()).find("Quantum"), std::string::npos);
    }
  }
}

TEST(Xpress, DecodesWhatTheEncoderWrites) {
  for (std::size_t size : {3u, 500u, 32'768u, 65'536u}) {
    Bytes plain = sample(size), out(size);
    decode_xpress(pack_xpress(plain), out);
    EXPECT_EQ(out, plain) << size;
  }
  Bytes runs(60'000, 'w'), out(60'000);  // copies of more than 270 bytes
  decode_xpress(pack_xpress(runs), out);
  EXPECT_EQ(out, runs);
}

// [MS-XCA] 3.2: "abcdefghijklmnopqrstuvwxyz".
TEST(Xpress, DecodesTheVectorOfTheSpecification) {
  Bytes packed(256);
  packed[0x30] = 0x50;
  for (std::size_t i = 0x31; i < 0x3B; ++i) packed[i] = 0x55;
  packed[0x3B] = 0x45;
  packed[0x3C] = 0x44;
  packed[0x3D] = 0x04;
  packed[0x80] = 0x04;
  const Byte rest[] = {0xD8, 0x52, 0x3E, 0xD7, 0x94, 0x11, 0x5B, 0xE9, 0x19, 0x5F,
                       0xF9, 0xD6, 0x7C, 0xDF, 0x8D, 0x04, 0,    0,    0,    0};
  packed.insert(packed.end(), std::begin(rest), std::end(rest));
  Bytes out(26);
  decode_xpress(packed, out);
  EXPECT_EQ(as_text(out), "abcdefghijklmnopqrstuvwxyz");
}

TEST(Xpress, RefusesDamage) {
  Bytes packed = pack_xpress(sample(20'000)), out(20'000);
  EXPECT_REFUSAL(decode_xpress(ByteView(packed).first(100), out), Malformed,
                 "XPRESS data: the data ends within a code table; it is cut short");
  EXPECT_REFUSAL(decode_xpress(ByteView(packed).first(2000), out), Malformed,
                 "XPRESS data: the data ends too early; it is cut short");
  Bytes bad = packed;
  std::fill_n(bad.begin(), 256, Byte{0x11});
  EXPECT_REFUSAL(decode_xpress(bad, out), Malformed, "XPRESS data: its code is not possible");
}

TEST(Mszip, RefusesBlocksWithoutTheirMark) {
  MszipDecoder decoder;
  EXPECT_REFUSAL(decoder.decode_block(as_bytes("XXxx"), 10), Malformed,
                 "MSZIP data: the mark \"CK\" is missing in front of a block; the data is damaged");
  EXPECT_REFUSAL(decoder.decode_block(as_bytes("CK"), 10), Malformed,
                 "MSZIP data: a block does not decode to its stated size; the data is damaged");
  Bytes stored = {'C', 'K', 1, 5, 0, 0xFA, 0xFF, 't', 'i', 'd', 'e', 's'};
  EXPECT_EQ(as_text(decoder.decode_block(stored, 5)), "tides");
  // a copy of five bytes that lie in the block before: distance 5, fixed codes
  Bytes copy = {'C', 'K', 0x03, 0x12, 0x00, 0x00};
  EXPECT_REFUSAL(decoder.decode_block(copy, 6), Malformed,
                 "MSZIP data: a block does not decode to its stated size; the data is damaged");
}

}  // namespace
}  // namespace operculum

// Codecs that decode blocks as a whole, and those that no library has.
#include "codec/block.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <bit>

#include "base/checksum.h"
#include "base/error.h"
#include "codec/adc.h"
#include "codec/lzfse.h"
#include "codec/lznt1.h"
#include "codec/lzvn.h"
#include "support/block_packer.h"
#include "support/refusal.h"
#include "support/sample_tree.h"

namespace operculum {
namespace {

using namespace test;

Bytes sample() {
  Bytes data = noise(3000);
  for (std::size_t i = 0; i < 5000; ++i) data.push_back(static_cast<Byte>(i / 40));
  return data;
}

struct BlockCodecs : testing::TestWithParam<BlockCodec> {};

TEST_P(BlockCodecs, GiveWhatWasPacked) {
  Bytes plain = sample(), packed = pack_block(GetParam(), plain), out(plain.size());
  EXPECT_EQ(decode_block(GetParam(), packed, out), plain.size());
  EXPECT_TRUE(out == plain);
}

TEST_P(BlockCodecs, NeverWriteBeyondTheirRoom) {
  Bytes packed = pack_block(GetParam(), sample()), out(1000);
  try {
    EXPECT_LE(decode_block(GetParam(), packed, out), out.size());
  } catch (const Malformed& error) {
    EXPECT_NE(std::string(error.what()).find("does not decode to the 1000 bytes expected"),
              std::string::npos);
  }
}

TEST_P(BlockCodecs, SurviveDamage) {
  Bytes packed = pack_block(GetParam(), sample()), out(sample().size());
  for (std::size_t i = 0; i < packed.size(); i += std::max<std::size_t>(1, packed.size() / 200)) {
    Bytes broken = packed;
    broken[i] ^= 0x55;
    try {
      EXPECT_LE(decode_block(GetParam(), broken, out), out.size());
      EXPECT_LE(decode_block(GetParam(), ByteView(broken).first(i), out), out.size());
    } catch (const Malformed&) {
    }
  }
}

INSTANTIATE_TEST_SUITE_P(All, BlockCodecs,
                         testing::Values(BlockCodec::stored, BlockCodec::deflate, BlockCodec::zlib,
                                         BlockCodec::bzip2, BlockCodec::lzma_alone, BlockCodec::micro_lzma,
                                         BlockCodec::xz, BlockCodec::lzo, BlockCodec::lz4,
                                         BlockCodec::lz4_partial, BlockCodec::zstd));

// ---- LZNT1: the example of [MS-XCA] 3.3

TEST(Lznt1, DecodesThePublishedExample) {
  const Bytes packed = {0x38, 0xb0, 0x88, 0x46, 0x23, 0x20, 0x00, 0x20, 0x47, 0x20, 0x41, 0x00,
                        0x10, 0xa2, 0x47, 0x01, 0xa0, 0x45, 0x20, 0x44, 0x00, 0x08, 0x45, 0x01,
                        0x50, 0x79, 0x00, 0xc0, 0x45, 0x20, 0x05, 0x24, 0x13, 0x88, 0x05, 0xb4,
                        0x02, 0x4a, 0x44, 0xef, 0x03, 0x58, 0x02, 0x8c, 0x09, 0x16, 0x01, 0x48,
                        0x45, 0x00, 0xbe, 0x00, 0x9e, 0x00, 0x04, 0x01, 0x18, 0x90, 0x00};
  const std::string plain =
      "F# F# G A A G F# E D D E F# F# E E F# F# G A A G F# E D D E F# E D D E E F# D E F# G F# D E F# G F# E "
      "D E A F# F# G A A G F# E D D E F# E D D";
  Bytes out(plain.size() + 1);  // a zero byte ends it
  decode_lznt1(packed, out);
  EXPECT_EQ(as_text(out).substr(0, plain.size()), plain);
}

TEST(Lznt1, RefusesCopiesFromBeforeTheChunk) {
  Bytes out(100);
  EXPECT_REFUSAL(decode_lznt1(Bytes{0x02, 0xB0, 0x01, 0x00, 0x10}, out), Malformed,
                 "an LZNT1 chunk does not decode; the data is damaged");
}

// ---- ADC

TEST(Adc, DecodesItsThreeKindsOfItems) {
  Bytes packed = {0x83, 'c', 'r', 'a', 'b', 0x04, 0x03, 0x40, 0x00, 0x07, 0x80, '!'};
  Bytes out(13);
  EXPECT_EQ(decode_adc(packed, out), 13u);
  EXPECT_EQ(as_text(out), "crabcrabcrab!");
  EXPECT_REFUSAL(decode_adc(Bytes{0x04, 0x03}, out), Malformed,
                 "an ADC block does not decode; the data is damaged");
}

// ---- LZVN, by its items

TEST(Lzvn, DecodesEveryKindOfItem) {
  ByteWriter w;
  w.u8(0xE4).text("crab");                    // four bytes as they are
  w.u8(0x08).u8(4);                           // a short distance: 4 from 4 back
  w.u8(0x4E).text("s");                       // one byte, then 4 by the last distance
  w.u8(0xA2).u8((9 << 2) | 1).u8(0);          // a middle distance: 12 from 9 back
  w.u8(0x0F).u16(13);                         // a long one: 4 from 13 back
  w.u8(0xF3);                                 // 3 more by the last distance
  w.u8(0x0E);                                 // nothing
  w.u8(0xE0).u8(0).text("0123456789abcdef");  // 16 bytes as they are
  w.u8(0xF0).u8(2);                           // 18 by the last distance
  w.u8(0x06).zeros(7);
  std::string expected = "crab";
  auto copy = [&](std::size_t count, std::size_t back) {
    for (std::size_t i = 0; i < count; ++i) expected += expected[expected.size() - back];
  };
  copy(4, 4);
  expected += "s";
  copy(4, 4);
  copy(12, 9);
  copy(4, 13);
  copy(3, 13);
  expected += "0123456789abcdef";
  copy(18, 13);
  Bytes out(200);
  out.resize(decode_lzvn(w.view(), out));
  EXPECT_EQ(as_text(out), expected);
}

TEST(Lzvn, RefusesWhatNoEncoderWrites) {
  Bytes out(100);
  EXPECT_REFUSAL(decode_lzvn(Bytes{0x70}, out), Malformed,
                 "an LZVN block does not decode; the data is damaged");
  EXPECT_REFUSAL(decode_lzvn(Bytes{0x08, 0x04}, out), Malformed,
                 "an LZVN block does not decode; the data is damaged");  // a copy from before the start
  EXPECT_REFUSAL(decode_lzvn(Bytes{0xE4, 'a'}, out), Malformed,
                 "an LZVN block does not decode; the data is damaged");
}

// ---- LZFSE: an encoder with even frequencies, from the description of the format

/// Where the states of a symbol begin, when all of them are equally frequent.
struct Even {
  std::uint32_t states, each;
  unsigned bits() const { return static_cast<unsigned>(std::countr_zero(states / each)); }
};

/// Bits that are read from the end: the last one written is read first.
class BitsWriter {
 public:
  void put(std::uint64_t value, unsigned count) {
    for (unsigned i = 0; i < count; ++i) bits_.push_back((value >> i & 1) != 0);
  }
  /// The bytes, and how many bits of the last are not used, as a negative number.
  std::pair<Bytes, int> finish() const {
    Bytes out((bits_.size() + 7) / 8);
    for (std::size_t i = 0; i < bits_.size(); ++i)
      out[i / 8] |= static_cast<Byte>((bits_[i] ? 1U : 0U) << (i % 8));
    return {out, -static_cast<int>(out.size() * 8 - bits_.size())};
  }

 private:
  std::vector<bool> bits_;
};

/// Writes a sequence of symbols backwards; gives the state to begin with.
class EvenEncoder {
 public:
  explicit EvenEncoder(Even even) : even_(even) {}
  void put(BitsWriter& bits, std::uint32_t symbol, std::uint32_t value, unsigned value_bits) {
    bits.put(value, value_bits);  // read after the state's bits, so written before them
    std::uint32_t within = state_ >> even_.bits();
    bits.put(state_ & ((1U << even_.bits()) - 1), even_.bits());
    state_ = symbol * even_.each + within;
  }
  std::uint32_t state() const { return state_; }

 private:
  Even even_;
  std::uint32_t state_ = 0;
};

struct Match {
  std::uint32_t length_symbol, length_value, copy_symbol, copy_value, distance_symbol, distance_value;
};

/// One block: 16 symbols for lengths and matches, 64 for distances, all literals.
Bytes lzfse_block(std::string literals, const std::vector<Match>& matches, std::size_t raw) {
  while (literals.size() % 4 != 0) literals += '\0';
  BitsWriter literal_bits, match_bits;
  Even for_literals{1024, 4}, for_lengths{64, 4}, for_distances{256, 4};
  std::vector<EvenEncoder> fours(4, EvenEncoder(for_literals));
  for (std::size_t i = literals.size(); i-- > 0;)
    fours[i % 4].put(literal_bits, static_cast<unsigned char>(literals[i]), 0, 0);
  EvenEncoder length(for_lengths), copy(for_lengths), distance(for_distances);
  for (std::size_t i = matches.size(); i-- > 0;) {
    const Match& m = matches[i];
    distance.put(match_bits, m.distance_symbol, m.distance_value, m.distance_symbol / 4);
    copy.put(match_bits, m.copy_symbol, m.copy_value, 0);
    length.put(match_bits, m.length_symbol, m.length_value, 0);
  }
  auto [literal_bytes, literal_end] = literal_bits.finish();
  auto [match_bytes, match_end] = match_bits.finish();
  ByteWriter w;
  w.text("bvx1")
      .u32(raw)
      .u32(literal_bytes.size() + match_bytes.size())
      .u32(literals.size())
      .u32(matches.size());
  w.u32(literal_bytes.size()).u32(match_bytes.size()).u32(static_cast<std::uint32_t>(literal_end));
  for (const EvenEncoder& one : fours) w.u16(one.state());
  w.u32(static_cast<std::uint32_t>(match_end)).u16(length.state()).u16(copy.state()).u16(distance.state());
  for (int table = 0; table < 2; ++table) {
    for (int i = 0; i < 20; ++i) w.u16(i < 16 ? 4 : 0);
  }
  for (int i = 0; i < 64 + 256; ++i) w.u16(4);
  w.u16(0).bytes(literal_bytes).bytes(match_bytes);
  return w.take();
}

TEST(Lzfse, DecodesEntropyPlainAndLzvnBlocks) {
  ByteWriter w;
  // "crab" and 12 from 4 back (distance symbol 4 is 4 plus one bit), then "s" and 5 from 9 back (6: 8 plus
  // one bit)
  w.bytes(lzfse_block("crabs", {{4, 0, 12, 0, 4, 0}, {1, 0, 5, 0, 6, 1}}, 22));
  w.text("bvx-").u32(3).text("end");
  w.text("bvxn").u32(6).u32(13).u8(0xE2).text("ab").u8(0x08).u8(2).u8(0x06).zeros(7);
  w.text("bvx$");
  std::string expected = "crabcrabcrabcrabs";
  for (int i = 0; i < 5; ++i) expected += expected[expected.size() - 9];
  expected += "endababab";
  Bytes out(expected.size());
  EXPECT_EQ(decode_lzfse(w.view(), out), expected.size());
  EXPECT_EQ(as_text(out), expected);
}

TEST(Lzfse, SurvivesDamage) {
  ByteWriter w;
  w.bytes(lzfse_block("crabs", {{4, 0, 12, 0, 4, 0}, {1, 0, 5, 0, 6, 1}}, 22)).text("bvx$");
  Bytes whole = w.take();
  for (std::size_t i = 0; i < whole.size(); ++i) {
    Bytes broken = whole, out(22);
    broken[i] ^= 0x5A;
    try {
      EXPECT_LE(decode_lzfse(broken, out), out.size());
      decode_lzfse(ByteView(whole).first(i), out);
      ADD_FAILURE() << "a block cut at " << i << " has no end, and was taken";
    } catch (const Malformed&) {
    }
  }
}

TEST(Crc32c, HasItsPublishedCheckValue) {
  EXPECT_EQ(~crc32c(~0U, as_bytes("123456789")), 0xE3069283U);
  Bytes data = noise(1000);
  EXPECT_EQ(crc32c(crc32c(~0U, ByteView(data).first(333)), ByteView(data).subspan(333)), crc32c(~0U, data));
}

}  // namespace
}  // namespace operculum

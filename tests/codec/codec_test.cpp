#include "codec/codec.h"

#include <gtest/gtest.h>

#include "base/error.h"
#include "support/bit_writer.h"
#include "support/byte_writer.h"
#include "support/program.h"
#include "support/refusal.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

using test::BitWriter;
using test::ByteWriter;
using test::to_bytes;

Bytes sample(std::size_t size) {
  Bytes bytes;
  std::uint32_t state = 7;
  while (bytes.size() < size) {
    state = state * 1664525 + 1013904223;
    std::size_t run = 1 + (state >> 28);
    for (std::size_t i = 0; i < run && bytes.size() < size; ++i)
      bytes.push_back(static_cast<Byte>((state >> 16) % 20 + 'a'));
  }
  return bytes;
}

Bytes decode(std::string_view codec, const Bytes& packed, CodecOptions options = {}) {
  return read_all(*open_decoder(codec, make_source_stream(make_memory_source(packed)), options), 64 << 20);
}

struct RoundTrip : testing::TestWithParam<const char*> {};

TEST_P(RoundTrip, GivesTheSameBytes) {
  for (std::size_t size : {0, 1, 1000, 700'000}) {
    Bytes plain = sample(size);
    EXPECT_EQ(decode(GetParam(), encode(GetParam(), plain)), plain) << size;
  }
}

TEST_P(RoundTrip, JoinsMembersWhereTheFormatDoes) {
  std::string codec = GetParam();
  if (codec == "deflate" || codec == "zlib" || codec == "lzma-alone")
    GTEST_SKIP() << "one member by definition";
  Bytes one = encode(codec, to_bytes("tide ")), two = encode(codec, to_bytes("pool"));
  one.insert(one.end(), two.begin(), two.end());
  EXPECT_EQ(as_text(decode(codec, one)), "tide pool");
}

TEST_P(RoundTrip, TellsOfCutData) {
  Bytes packed = encode(GetParam(), sample(5000));
  packed.resize(packed.size() - packed.size() / 3);
  EXPECT_REFUSAL(decode(GetParam(), packed), CutShort, "; it is cut short");
}

TEST_P(RoundTrip, NeverCallsDamagedDataRight) {
  std::string codec = GetParam();
  if (codec == "deflate" || codec == "lzma-alone") GTEST_SKIP() << "the format has no checksum";
  Bytes plain = sample(3000);
  Bytes packed = encode(codec, plain);
  for (std::size_t at = 0; at < packed.size(); at += 3) {
    Bytes damaged = packed;
    damaged[at] ^= 0x10;
    try {
      EXPECT_EQ(decode(codec, damaged), plain) << "byte " << at << " of " << packed.size();
    } catch (const Error&) {
      // told
    }
  }
}

INSTANTIATE_TEST_SUITE_P(Codecs, RoundTrip,
                         testing::Values("deflate", "zlib", "gzip", "bzip2", "lzma-alone", "xz", "zstd",
                                         "lz4"));

TEST(Codec, TellsOfBytesBehindTheLastMember) {
  Bytes packed = encode("gzip", to_bytes("tide"));
  for (Byte b : to_bytes("garbage")) packed.push_back(b);
  std::string noted;
  CodecOptions options;
  options.note = [&](const std::string& text) { noted = text; };
  EXPECT_EQ(as_text(decode("gzip", packed, options)), "tide");
  EXPECT_NE(noted.find("bytes that belong to no packed data follow"), std::string::npos);
}

TEST(Codec, NamesWhatItDoesNotKnow) {
  EXPECT_REFUSAL(decode("kelp", {}), Unsupported, "Unsupported: codec \"kelp\"");
}

TEST(Codec, DecodesInOneGoWhenThereIsRoom) {
  Bytes plain = sample(10'000);
  SourcePtr packed = make_memory_source(encode("deflate", plain));
  StreamPtr stream = open_sized_decoder(*find_codec("deflate"), packed, plain.size(), {});
  Bytes out(plain.size());
  EXPECT_EQ(stream->read(out), plain.size());
  EXPECT_EQ(out, plain);
  EXPECT_EQ(stream->read(out), 0u);
}

TEST(Codec, FallsBackToTheStreamWhenTheStatedSizeIsWrong) {
  Bytes plain = sample(10'000);
  SourcePtr packed = make_memory_source(encode("deflate", plain));
  EXPECT_EQ(read_all(*open_sized_decoder(*find_codec("deflate"), packed, 9'000, {}), 1 << 20), plain);
}

TEST(CheckedStream, ComparesSizeAndChecksum) {
  auto checked = [](Expected expected) {
    return read_all(*make_checked(make_source_stream(make_memory_source(to_bytes("123456789"))), expected),
                    100);
  };
  EXPECT_EQ(as_text(checked({9, 0xcbf43926})), "123456789");
  EXPECT_REFUSAL(checked({9, 0x12345678}), Malformed,
                 "checksum differs (stored 12345678, computed cbf43926); the data is damaged");
  EXPECT_REFUSAL(checked({8, std::nullopt}), Malformed,
                 "the data is longer than the 8 bytes stated; it is damaged")
      << "longer than stated";
  EXPECT_REFUSAL(checked({10, std::nullopt}), Malformed,
                 "the data ends after 9 of 10 bytes; it is damaged or cut short")
      << "shorter than stated";
}

TEST(Lz4, ReadsLegacyFrames) {
  // Magic, then one block: token 0x80 (8 literals, no match) and the literals.
  Bytes legacy = ByteWriter().u32(0x184C2102).u32(9).u8(0x80).text("tidepool").take();
  EXPECT_EQ(as_text(decode("lz4", legacy)), "tidepool");
  legacy.pop_back();
  EXPECT_REFUSAL(decode("lz4", legacy), CutShort, "LZ4 legacy frame: the last block is cut short");
}

TEST(Zstd, PassesOverSkippableFrames) {
  Bytes packed = ByteWriter()
                     .u32(0x184D2A53)
                     .u32(3)
                     .text("abc")
                     .bytes(encode("zstd", to_bytes("tide")))
                     .u32(0x184D2A50)
                     .u32(0)
                     .take();
  EXPECT_EQ(as_text(decode("zstd", packed)), "tide");
}

TEST(Lzma, WantsFivePropertyBytes) {
  EXPECT_REFUSAL(decode("lzma", {}, {.properties = {1, 2}}), Malformed,
                 "LZMA properties: expected 5 bytes, found another number");
  Bytes packed = encode("lzma", to_bytes("tide pool"));
  CodecOptions options;
  options.properties.assign(packed.begin(), packed.begin() + 5);
  EXPECT_EQ(as_text(decode("lzma", Bytes(packed.begin() + 5, packed.end()), options)), "tide pool");
}

TEST(Compress, ReadsWhatTheSystemsProgramWrites) {
  if (!test::on_path("compress")) GTEST_SKIP() << "this machine has no compress program (package ncompress)";
  test::TempFolder temp;
  for (const char* bits : {"10", "12", "16"}) {  // with 9 it writes what its own counterpart cannot read
    for (std::size_t size : {0, 1, 5000, 900'000}) {
      Bytes plain = sample(size);
      temp.write("plain", plain);
      test::Ran ran = test::run(
          "sh", {"-c", std::string("compress -f -b ") + bits + " -c < plain > packed.Z"}, temp.path());
      ASSERT_NE(ran.exit_code, 127);
      EXPECT_EQ(decode("compress", to_bytes(temp.read("packed.Z"))), plain)
          << bits << " bits, " << size << " bytes";
    }
  }
}

TEST(Compress, ReadsCodesAndTheClearCode) {
  // 9-bit codes, lowest bit first: 'a' 'b' 257("ab") 256(clear) ... padded to a group of eight, then 'c'.
  auto pack = [](const std::vector<unsigned>& codes) {
    ByteWriter out;
    std::uint64_t buffer = 0;
    unsigned bits = 0;
    for (unsigned code : codes) {
      buffer |= std::uint64_t{code} << bits;
      for (bits += 9; bits >= 8; bits -= 8, buffer >>= 8) out.u8(buffer & 0xff);
    }
    if (bits > 0) out.u8(buffer & 0xff);
    return out.take();
  };
  Bytes packed =
      ByteWriter().text("\x1f\x9d").u8(0x90).bytes(pack({'a', 'b', 257, 256, 0, 0, 0, 0, 'c'})).take();
  EXPECT_EQ(as_text(decode("compress", packed)), "ababc");
  Bytes wrong = ByteWriter().text("\x1f\x9d").u8(0x90).bytes(pack({'a', 300})).take();
  EXPECT_REFUSAL(decode("compress", wrong), Malformed,
                 "compress data: a code refers to a string that does not exist yet; the data is damaged");
}

/// A literal or length symbol of deflate's fixed code (RFC 1951, 3.2.6).
BitWriter& fixed(BitWriter& out, unsigned symbol) {
  if (symbol < 144) return out.code(0x30 + symbol, 8);
  if (symbol < 256) return out.code(0x190 + symbol - 144, 9);
  if (symbol < 280) return out.code(symbol - 256, 7);
  return out.code(0xc0 + symbol - 280, 8);
}

TEST(Deflate64, ReadsItsLongLengthsAndFarDistances) {
  BitWriter out;
  out.put(1, 1).put(1, 2);  // last block, fixed codes
  fixed(fixed(out, 'a'), 'b');
  fixed(out, 285).put(50'000 - 3, 16).code(1, 5);  // length 50,000 at distance 2: only deflate64 can say so
  fixed(out, 257).code(30, 5).put(100, 14);        // length 3 at distance 32769 + 16384 - ... of code 30
  fixed(out, 256);
  Bytes plain = decode("deflate64", out.take());
  ASSERT_EQ(plain.size(), 50'005u);
  EXPECT_EQ(plain[49'999], 'b');
  EXPECT_EQ(plain[50'002], plain[50'002 - (32769 + 100)]);
}

TEST(Deflate64, ReadsPlainDeflateBlocksOfAllTypes) {
  for (std::size_t size : {10, 2000, 30'000}) {  // within 32 KiB and lengths under 258 both are the same
    Bytes plain;
    std::uint32_t state = 3;
    for (std::size_t i = 0; i < size; ++i)
      plain.push_back(static_cast<Byte>((state = state * 69069 + 1) >> 27));
    EXPECT_EQ(decode("deflate64", encode("deflate", plain)), plain);
  }
  Bytes stored = ByteWriter().u8(1).u16(4).u16(0xfffb).text("tide").take();
  EXPECT_EQ(as_text(decode("deflate64", stored)), "tide");
}

TEST(Deflate64, RefusesDamage) {
  EXPECT_REFUSAL(decode("deflate64", BitWriter().put(1, 1).put(3, 2).take()), Malformed,
                 "deflate64 data: an invalid block type; the data is damaged")
      << "block type 3";
  BitWriter before_start;
  fixed(fixed(before_start.put(1, 1).put(1, 2), 257).code(0, 5), 256);
  EXPECT_REFUSAL(decode("deflate64", before_start.take()), Malformed,
                 "deflate64 data: a copy from before the start; the data is damaged")
      << "a copy from before the start";
  BitWriter endless;
  fixed(endless.put(1, 1).put(1, 2), 'a');
  EXPECT_REFUSAL(decode("deflate64", endless.take()), Malformed,
                 "deflate64 data: an unused code; the data is damaged")
      << "no end";
  EXPECT_REFUSAL(decode("deflate64", ByteWriter().u8(1).u16(4).u16(4).text("tide").take()), Malformed,
                 "deflate64 data: a stored block's length is damaged")
      << "a stored length that does not fit its complement";
}

}  // namespace
}  // namespace operculum

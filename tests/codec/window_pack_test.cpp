// Encoders that are written here: what they pack comes out again, and packs well.
#include <gtest/gtest.h>

#include <random>

#include "base/cursor.h"
#include "base/numbers.h"
#include "codec/code_lengths.h"
#include "codec/codec.h"
#include "codec/lzh.h"
#include "codec/lzx.h"
#include "codec/lzx_pack.h"
#include "codec/mszip.h"
#include "codec/mszip_pack.h"
#include "support/program.h"
#include "support/sample_tree.h"
#include "support/temp_folder.h"

namespace operculum::test {
namespace {

StreamPtr stream_of(const Bytes& bytes) {
  return make_source_stream(make_memory_source(bytes));
}

Bytes words(std::size_t size, std::uint32_t seed = 1) {
  std::mt19937 random(seed);
  static const char* const kWords[] = {"limpet ", "barnacle ", "high water\n", "ebb ",
                                       "sluice ", "42.17\t",   "kelp,"};
  std::string text;
  while (text.size() < size)
    text += random() % 9 == 0 ? std::to_string(random()) : kWords[random() % std::size(kWords)];
  return to_bytes(text.substr(0, size));
}

Bytes joined(std::initializer_list<Bytes> parts) {
  Bytes out;
  for (const Bytes& part : parts) out.insert(out.end(), part.begin(), part.end());
  return out;
}

/// Contents that take the encoders through all of their forms.
std::vector<Bytes> samples() {
  return {
      {},
      {7},
      to_bytes("ab"),
      Bytes(300, 'x'),
      Bytes(70'000, 0),
      Bytes(300'000, 'z'),
      noise(5),
      noise(32'768),
      noise(100'001),
      words(32'767),
      words(131'072),
      words(131'073),
      joined({words(40'000), Bytes(1'300'000, 'z'), words(40'000)}),  // so that the window moves on
      joined({words(60'000), noise(90'000), Bytes(40'001, 1), words(60'000)}),
      joined({noise(40'000), noise(40'000)}),
  };
}

/// How much of `plain` a packed form is.
double share(std::size_t packed, const Bytes& plain) {
  return static_cast<double>(packed) / static_cast<double>(plain.size());
}

struct Packing {
  std::string name;
  std::function<Bytes(const Bytes&)> pack;
  std::function<Bytes(const Bytes& packed, std::size_t size)> unpack;
  double of_words;  ///< what words may take at most, of their size
};

Bytes by_codec(const char* codec, const Bytes& packed) {
  StreamPtr stream = open_decoder(codec, stream_of(packed));
  return read_all(*stream, 1 << 30);
}

Packing lzh(unsigned window) {
  return {"lzh" + std::to_string(window),
          [=](const Bytes& plain) {
            StreamPtr packed = operculum::pack_lzh(stream_of(plain), window);
            return read_all(*packed, 1 << 30);
          },
          [=](const Bytes& packed, std::size_t size) {
            StreamPtr plain = open_lzh(stream_of(packed), window, size);
            return read_all(*plain, 1 << 30);
          },
          0.29};
}

Packing lzx(unsigned window) {
  return {"lzx" + std::to_string(window),
          [=](const Bytes& plain) {
            LzxEncoder encoder(window);
            Bytes out;
            for (std::size_t at = 0; at < plain.size(); at += LzxEncoder::kBlock) {
              ByteView part = ByteView(plain).subspan(at, std::min(LzxEncoder::kBlock, plain.size() - at));
              for (const Bytes& frame : encoder.pack(part)) {  // with its length in front
                EXPECT_LE(frame.size(), 32'768u + 6'144);
                append_number(out, 4, frame.size());
                out.insert(out.end(), frame.begin(), frame.end());
              }
            }
            return out;
          },
          [=](const Bytes& packed, std::size_t size) {
            LzxDecoder decoder(window);
            Bytes out;
            for (std::size_t at = 0; at < packed.size();) {
              std::size_t length = load_little<std::uint32_t>(packed.data() + at);
              ByteView plain = decoder.decode_frame(ByteView(packed).subspan(at + 4, length),
                                                    std::min(LzxDecoder::kFrame, size - out.size()));
              out.insert(out.end(), plain.begin(), plain.end());
              at += 4 + length;
            }
            return out;
          },
          0.25};
}

Packing mszip(int level) {
  return {"mszip" + std::to_string(level),
          [=](const Bytes& plain) {
            MszipEncoder encoder(level, 8);
            Bytes out;
            for (std::size_t at = 0; at < plain.size(); at += MszipDecoder::kBlock) {
              std::size_t size = std::min(MszipDecoder::kBlock, plain.size() - at);
              ByteView block = encoder.pack_block(ByteView(plain).subspan(at, size));
              EXPECT_LE(block.size(), 32'768u + 12);
              append_number(out, 4, block.size());
              out.insert(out.end(), block.begin(), block.end());
            }
            return out;
          },
          [=](const Bytes& packed, std::size_t size) {
            MszipDecoder decoder;
            Bytes out;
            for (std::size_t at = 0; at < packed.size();) {
              std::size_t length = load_little<std::uint32_t>(packed.data() + at);
              ByteView plain = decoder.decode_block(ByteView(packed).subspan(at + 4, length),
                                                    std::min(MszipDecoder::kBlock, size - out.size()));
              out.insert(out.end(), plain.begin(), plain.end());
              at += 4 + length;
            }
            return out;
          },
          0.31};
}

Packing codec(const char* name, double of_words) {
  return {name, [=](const Bytes& plain) { return encode(name, plain); },
          [=](const Bytes& packed, std::size_t) { return by_codec(name, packed); }, of_words};
}

class WindowPack : public ::testing::TestWithParam<Packing> {};

TEST_P(WindowPack, WhatIsPackedComesOutAgain) {
  for (const Bytes& plain : samples()) {
    Bytes packed = GetParam().pack(plain);
    EXPECT_TRUE(GetParam().unpack(packed, plain.size()) == plain) << plain.size() << " bytes";
  }
}

TEST_P(WindowPack, PacksWell) {
  Bytes text = words(400'000), same = Bytes(1'000'000, 'q'), chance = noise(100'000);
  EXPECT_LT(share(GetParam().pack(text).size(), text), GetParam().of_words);
  EXPECT_LT(share(GetParam().pack(same).size(), same), 0.02);
  EXPECT_LT(share(GetParam().pack(chance).size(), chance), GetParam().name == "compress" ? 1.5 : 1.04);
}

TEST_P(WindowPack, ContentsByChance) {
  std::mt19937 random(31);
  for (int round = 0; round < 25; ++round) {
    Bytes plain;
    while (plain.size() < 1 + random() % 60'000) {
      Bytes part = random() % 3 == 0 ? noise(random() % 3'000, static_cast<std::uint32_t>(random()))
                                     : words(random() % 9'000, static_cast<std::uint32_t>(random()));
      if (random() % 4 == 0 && !plain.empty()) {
        std::size_t from = random() % plain.size();
        part.assign(plain.begin() + static_cast<std::ptrdiff_t>(from), plain.end());
      }
      plain.insert(plain.end(), part.begin(), part.end());
    }
    Bytes packed = GetParam().pack(plain);
    ASSERT_TRUE(GetParam().unpack(packed, plain.size()) == plain) << "round " << round;
  }
}

INSTANTIATE_TEST_SUITE_P(Codecs, WindowPack,
                         ::testing::Values(lzh(13), lzh(16), lzx(15), lzx(21), mszip(1), mszip(9),
                                           codec("deflate64", 0.28), codec("compress", 0.36)),
                         [](const auto& tested) { return tested.param.name; });

TEST(CompressPack, IsReadByAnotherProgram) {
  if (!on_path("gzip")) GTEST_SKIP() << "this machine has no gzip program";
  TempFolder folder;
  Bytes text = joined({words(900'000), noise(200'000), words(600'000, 7)});  // so that the table is cleared
  folder.write("tides.Z", encode("compress", text));
  EXPECT_TRUE(to_bytes(run("gzip", {"-dc", "tides.Z"}, folder.path()).out) == text);
}

TEST(CodeLengths, AreTheShortestWithinTheirLimit) {
  std::vector<std::uint32_t> fibonacci = {1, 1, 2, 3, 5, 8, 13, 21, 34, 55, 89, 144};
  for (unsigned most : {4u, 5u, 7u, 16u}) {
    std::vector<Byte> lengths = code_lengths(fibonacci, most);
    double room = 0;
    for (Byte length : lengths) {
      EXPECT_LE(length, most);
      room += 1.0 / static_cast<double>(1 << length);
    }
    EXPECT_EQ(room, 1.0) << most;
  }
  EXPECT_EQ(code_lengths(fibonacci, 16), (std::vector<Byte>{11, 11, 10, 9, 8, 7, 6, 5, 4, 3, 2, 1}));
  EXPECT_EQ(code_lengths(std::vector<std::uint32_t>{0, 0, 9}, 16), (std::vector<Byte>{1, 0, 1}));
  EXPECT_EQ(code_lengths(std::vector<std::uint32_t>(3), 16), std::vector<Byte>(3));
}

}  // namespace
}  // namespace operculum::test

// Encoders, and finding out how something was packed.
#include <gtest/gtest.h>

#include "base/error.h"
#include "base/numbers.h"
#include "codec/settings_search.h"
#include "support/byte_writer.h"
#include "support/refusal.h"
#include "support/sample_tree.h"

namespace operculum::test {
namespace {

/// Text that levels of packing treat differently.
Bytes tide_table(std::size_t lines) {
  std::string text;
  for (std::size_t i = 0; i < lines; ++i)
    text += "day " + std::to_string(i * 7 % 365) + " high " + std::to_string(i * i % 997) + " low " +
            std::to_string(i * 31 % 211) + "\n";
  return to_bytes(text);
}

Bytes decoded(std::string_view codec, const Bytes& packed, std::optional<std::uint64_t> size = {}) {
  CodecOptions options;
  ByteView view = packed;
  if (codec == "lzma") {
    options.properties.assign(packed.begin(), packed.begin() + 5);
    view = view.subspan(5);
  }
  options.unpacked_size = size;
  StreamPtr stream =
      open_decoder(codec, make_source_stream(make_memory_source(Bytes(view.begin(), view.end()))), options);
  return read_all(*stream, 1 << 30);
}

struct Case {
  std::string_view codec;
  PackSettings settings;
};

PackSettings level(int number) {
  PackSettings settings;
  settings.level = number;
  return settings;
}
PackSettings with(PackSettings settings, const std::function<void(PackSettings&)>& change) {
  change(settings);
  return settings;
}

class FindSettings : public ::testing::TestWithParam<Case> {};

/// What is found need not be what was used, where both give the same bytes.
TEST_P(FindSettings, FindsSettingsThatGiveTheSameBytes) {
  Bytes plain = tide_table(20'000);
  PackSettings used = GetParam().settings;
  used.plain_size = plain.size();
  Bytes packed = encode(GetParam().codec, plain, used);
  EXPECT_EQ(decoded(GetParam().codec, packed,
                    used.end_mark.value_or(true) ? std::nullopt : std::optional(std::uint64_t{plain.size()})),
            plain);
  auto found = find_settings(GetParam().codec, make_memory_source(packed),
                             *make_content(make_memory_source(plain)), plain.size());
  ASSERT_TRUE(found);
  EXPECT_EQ(encode(GetParam().codec, plain, *found), packed);
}

INSTANTIATE_TEST_SUITE_P(
    Codecs, FindSettings,
    ::testing::Values(Case{"deflate", level(1)}, Case{"deflate", level(6)}, Case{"deflate", level(9)},
                      Case{"deflate", with(level(9), [](PackSettings& s) { s.memory_level = 9; })},
                      Case{"deflate", with(level(6), [](PackSettings& s) { s.strategy = 1; })},
                      Case{"deflate", with(level(6), [](PackSettings& s) { s.whole_buffer = true; })},
                      Case{"zlib", level(9)}, Case{"zlib", level(1)}, Case{"bzip2", level(1)},
                      Case{"bzip2", level(9)}, Case{"xz", level(0)}, Case{"xz", level(6)},
                      Case{"xz", with(level(2),
                                      [](PackSettings& s) {
                                        s.check = 1;
                                        s.extreme = true;
                                      })},
                      Case{"xz", with(level(1),
                                      [](PackSettings& s) {
                                        s.threads = 1;
                                        s.block_size = 100'000;
                                      })},
                      Case{"xz", with(level(1), [](PackSettings& s) { s.filters = {4}; })},  // x86
                      Case{"lzma-alone", level(3)},
                      Case{"lzma-alone", with(level(3), [](PackSettings& s) { s.end_mark = true; })},
                      Case{"lzma-alone", with(level(3), [](PackSettings& s) { s.states_size = false; })},
                      Case{"lzma", level(4)}, Case{"zstd", level(1)}, Case{"zstd", level(12)},
                      Case{"zstd", with(level(3), [](PackSettings& s) { s.checksum = false; })},
                      Case{"zstd", with(level(3), [](PackSettings& s) { s.states_size = false; })},
                      Case{"lz4", level(1)}, Case{"lz4", level(9)},
                      Case{"lz4", with(level(1),
                                       [](PackSettings& s) {
                                         s.linked_blocks = false;
                                         s.block_size = 1 << 20;
                                       })}),
    [](const auto& tested) {
      std::string name = std::string(tested.param.codec) + std::to_string(tested.index);
      std::erase(name, '-');
      return name;
    });

TEST(FindSettings, SaysNothingOfAnotherEncoder) {
  Bytes plain = tide_table(500);
  Bytes packed = encode("deflate", plain, level(6));
  packed[packed.size() / 2] ^= 1;
  EXPECT_FALSE(find_settings("deflate", make_memory_source(packed), *make_content(make_memory_source(plain)),
                             plain.size()));
  PackSettings shown = shown_settings("deflate", *make_memory_source(packed), plain.size());
  EXPECT_EQ(decoded("deflate", encode("deflate", plain, shown)), plain);
}

TEST(OpenEncoder, PacksWhatComesPieceByPiece) {
  for (std::string_view codec : {"deflate", "zlib", "gzip", "bzip2", "xz", "zstd", "lz4", "lzma-alone"}) {
    for (std::size_t size : {std::size_t{0}, std::size_t{1}, std::size_t{300'000}}) {
      Bytes plain = noise(size);
      EXPECT_EQ(decoded(codec, encode(codec, plain)), plain) << codec << " " << size;
    }
  }
  EXPECT_REFUSAL(open_encoder("brotli", make_source_stream(make_memory_source({}))), Unsupported,
                 "Unsupported: packing with codec \"brotli\"");
}

/// An archive may state a dictionary of gigabytes for a few bytes.
TEST(OpenEncoder, PacksWithNoLargerDictionaryThanPresetsHave) {
  constexpr std::uint32_t kStated = 1 << 29;
  constexpr std::size_t kDictionaryOfXz =
      16;  // .xz format 1.1.0, 3.1 and 5.3.1: behind the first filter's id
  constexpr Byte k64Mebibytes = 28;
  PackSettings huge = with({}, [&](PackSettings& s) { s.dictionary_size = kStated; });
  Bytes plain = tide_table(100), alone = encode("lzma", plain, huge), xz = encode("xz", plain, huge);
  EXPECT_EQ(load_number(alone.data() + 1, 4, std::endian::little), kStated) << "as it was stated";
  EXPECT_EQ(xz[kDictionaryOfXz], k64Mebibytes);
  EXPECT_EQ(decoded("lzma", alone), plain);
  EXPECT_EQ(decoded("xz", xz), plain);
}

TEST(PackSettings, AreToldInWordsThatAPersonKnows) {
  EXPECT_EQ(text_of(level(6)), "level 6");
  EXPECT_EQ(text_of(with(level(9), [](PackSettings& s) { s.memory_level = 9; })), "level 9, memory 9");
  EXPECT_EQ(text_of(with(level(6), [](PackSettings& s) { s.whole_buffer = true; })),
            "level 6, by libdeflate");
  EXPECT_EQ(operculum::text_of(PackSettings()), "the usual level");
}

}  // namespace
}  // namespace operculum::test

// What looks like an index and is none, and indexes beside such.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/text.h"
#include "codec/codec.h"
#include "study/text_test.h"
#include "support/byte_writer.h"
#include "support/sample_tree.h"
#include "support/studied.h"

namespace operculum::study {
namespace {

using namespace test;

/// A text of words, without a zero.
Bytes words(std::size_t size, std::uint32_t seed) {
  constexpr std::string_view kWords[] = {"tide ", "rope ", "lamp ", "pier ",
                                         "gull ", "mole ", "kelp ", "wrack "};
  std::string text;
  while (text.size() < size) text += kWords[(seed = seed * 1103515245 + 12345) >> 16 & 7];
  text.resize(size);
  return to_bytes(text);
}

TEST(StudyLookalikes, NumbersOfTheHeaderGoOnAsPlacesDo) {
  // Sizes and places of texts, of two tables that lie one behind the other: their number is that of one, and
  // the header's own numbers rise, too.
  constexpr std::uint32_t kTexts = 60, kHead = 28, kGap = 600;
  std::vector<File> files;
  ByteWriter index, texts;
  const std::uint32_t table_end = kHead + 2 * kTexts * 8;
  for (std::uint32_t i = 0; i < 2 * kTexts; ++i) {
    Bytes text = words(20 + i * 29 % 90, i);
    index.u32(text.size()).u32(table_end + kGap + texts.size());
    texts.bytes(text).u8(0);
    files.push_back({"", text});
  }
  ByteWriter bytes;
  bytes.u32(0x950412de).u32(0).u32(kTexts).u32(kHead).u32(kHead + kTexts * 8).u32(kGap / 4).u32(table_end);
  bytes.bytes(index.take()).bytes(noise(kGap, 3)).bytes(texts.take());
  Studied found = studied(bytes.view());
  ASSERT_EQ(found.files.size(), files.size()) << found.draft;
  for (std::size_t i = 0; i < files.size(); ++i) EXPECT_EQ(found.files[i].data, files[i].data) << i;
  EXPECT_NE(found.draft.find("Item[(head.index_end - 28) / 8] at 28"), std::string::npos) << found.draft;
}

TEST(StudyLookalikes, PalettesInTheDataLookLikeTables) {
  std::vector<File> files = exhibits(15);
  ByteWriter bytes, data;
  bytes.u32(files.size() + 1);
  const std::uint32_t table_end = 4 + 17 * (static_cast<std::uint32_t>(files.size()) + 1);
  for (std::size_t i = 0; i < files.size(); ++i) {
    ByteWriter picture;
    picture.text("palette.").bytes(noise(46, static_cast<unsigned>(i)));
    for (unsigned color = 0; color < 250; ++color)
      picture.u8(0x20 + color / 4).u8(0x30 + color / 5).u8(0x41).u8(0);
    files[i].data = picture.take();
    bytes.u32(table_end + data.size());
    bytes.text(padded(files[i].name, 13));
    data.bytes(files[i].data);
  }
  bytes.u32(table_end + data.size()).zeros(13).bytes(data.take());
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("where item.name != \"\""), std::string::npos) << found.draft;
}

TEST(StudyLookalikes, AFewRecordsAreEnoughWhereAllOfItCloses) {
  std::vector<File> files = exhibits(3);
  ByteWriter bytes, data;
  bytes.u32(4);
  for (std::size_t i = 0; i < files.size(); ++i) {
    files[i].data = noise(20000 >> i, static_cast<unsigned>(i));
    bytes.u32(72 + data.size());
    bytes.text(padded(files[i].name, 13));
    data.bytes(files[i].data);
  }
  bytes.u32(72 + data.size()).zeros(13).bytes(data.take());
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
}

TEST(StudyLookalikes, ARecordIsNotCutWhereTheLastOneHasNoName) {
  constexpr std::string_view kLanguages[] = {"fr", "br", "de", "en", "es", "it", "ja", "nl", "pt"};
  ByteWriter bytes, data;
  std::vector<File> files;
  bytes.text("TIDEDATA").u16(1).u32(9).u16(0);
  for (std::string_view language : kLanguages) {
    Bytes part = noise(400 + files.size() * 48, static_cast<unsigned>(files.size()));
    bytes.text("VRSL").u16(1).text(language).u32(0xffffffff).u32(208 + data.size()).u32(part.size());
    data.bytes(part);
    files.push_back({std::string(language), part});
  }
  bytes.align(16).bytes(data.take());
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
}

TEST(StudyLookalikes, UnitsMayBeFilledUpWithAnything) {
  constexpr std::uint32_t kFirst = 1536, kUnit = 32;
  ByteWriter bytes, data;
  std::vector<Bytes> parts;
  bytes.text("neaptidZ");
  for (std::uint32_t i = 0; i < 103; ++i) {
    parts.push_back(noise(120 + i * 157 % 1900, i));
    bytes.u16(0x4100 + i * 3).u16(0xff).u16(parts.back().size()).u16((kFirst + data.size()) / kUnit);
    data.bytes(parts.back()).bytes(noise((kUnit - data.size() % kUnit) % kUnit, i + 500));
  }
  bytes.bytes(Bytes(kFirst - bytes.size(), 0xff)).bytes(data.take());
  Studied found = studied(bytes.view());
  ASSERT_EQ(found.files.size(), parts.size()) << found.draft;
  for (std::size_t i = 0; i < parts.size(); ++i) EXPECT_EQ(found.files[i].data, parts[i]) << i;
  EXPECT_NE(found.draft.find("!= 0xffff at 8"), std::string::npos) << found.draft;
}

TEST(StudyLookalikes, NumbersThatRiseInAFileOfOtherThingsAreNoIndex) {
  ByteWriter bytes;
  bytes.text("WEED").u32(64).u32(7);
  bytes.bytes(noise(4352 - bytes.size(), 1));
  std::uint16_t place = 19;
  for (std::uint32_t i = 0; i < 64; ++i) bytes.u16(place += static_cast<std::uint16_t>(9 + i * 5 % 17));
  for (std::uint32_t i = 0; i < 400; ++i) bytes.text("rope and lamp ").u8(0x30 + i % 10).u8(0);
  bytes.bytes(noise(300000, 2));
  EXPECT_EQ(studied(bytes.view()).draft, "none");
}

TEST(StudyLookalikes, WhatIsPackedMayComeOutAsLong) {
  std::vector<File> files = exhibits(20);
  ByteWriter index, data;
  data.text("PAIR");
  for (std::size_t i = 0; i < files.size(); ++i) {
    files[i].data = i == 0 ? Bytes(11, 'w') : words(100 + i * 40, static_cast<unsigned>(i));
    Bytes packed = encode("zlib", files[i].data);
    if (i == 0) ASSERT_EQ(packed.size(), files[i].data.size());
    index.text(padded(files[i].name, 20));
    index.u32(packed.size()).u32(files[i].data.size()).u32(data.size());
    data.bytes(packed);
  }
  std::size_t table = data.size();
  data.bytes(index.take()).u32(table).u32(files.size());
  Studied found = studied(data.view());
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("size = item.size"), std::string::npos) << found.draft;
  EXPECT_EQ(found.draft.find("when "), std::string::npos) << found.draft;
}

TEST(StudyLookalikes, DigitsOfADigestAreNoTime) {
  std::vector<File> files = exhibits(30);
  ByteWriter bytes;
  bytes.text("DIG1");
  for (std::size_t i = 0; i < files.size(); ++i) {
    bytes.u8(files[i].name.size()).text(files[i].name);
    for (std::size_t digit = 0; digit < 32; ++digit)
      bytes.u8("0123456789abcdef"[(i * 7 + digit * digit * 5 + i * digit) % 16]);
    bytes.u32(files[i].data.size()).bytes(files[i].data);
  }
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_EQ(found.draft.find("unix("), std::string::npos) << found.draft;
}

TEST(StudyLookalikes, SmallNumbersLeadFromAnywhereToTheEnd) {
  // Tables of small numbers, as a locale's: a number read anywhere leads a little further.
  ByteWriter bytes;
  bytes.u32(0x20090720);
  std::uint32_t state = 5;
  for (std::uint32_t i = 0; i < 9000; ++i) {
    state = state * 1103515245 + 12345;
    bytes.u32(i / 7 + (state >> 16) % (i % 1000 < 900 ? 400 : 70000));
  }
  EXPECT_EQ(studied(bytes.view()).draft, "none");
}

TEST(StudyLookalikes, ATextHoldsNoNumbersButDigits) {
  // Letters as sizes of one byte: chance leads through a text from letter to letter.
  std::string text = "<svg height=\"16\">\n";
  for (unsigned i = 0; i < 150; ++i)
    text += fmt::format("<path d=\"m {} {} c 0 {}\"/>\n", i % 17, i * 7 % 23, i % 5);
  EXPECT_EQ(studied(to_bytes(text)).draft, "none");
}

TEST(StudyLookalikes, FillingIsNoName) {
  EXPECT_FALSE(is_name("UUUUUUUUUUUUUUUUUUUUUUULAME3.98.2UUUUUUUUUUUUUUUUUUUUUUUUUUUUUU"));
  EXPECT_FALSE(is_name(std::string(40, 'x')));
  EXPECT_TRUE(is_name("aaa.txt"));
  EXPECT_TRUE(is_name("moorings/0000001.bin"));
  EXPECT_TRUE(is_name("high   water   by the   pier"));
}

TEST(StudyLookalikes, RecordsThatTellSeveralPlacesAreSeveral) {
  std::vector<File> files = exhibits(64);
  ByteWriter index, data;
  const std::uint32_t table_end = 4 + 17 * 65;
  for (std::size_t i = 0; i < files.size(); ++i) {
    files[i].name = fmt::format("D-BW{}-{:02}.BMP", 1 + i / 16, i % 16);
    index.u32(table_end + data.size());
    index.text(padded(files[i].name, 13));
    data.bytes(files[i].data);
  }
  index.u32(table_end + data.size()).zeros(13);
  ByteWriter bytes;
  bytes.u32(files.size() + 1).bytes(index.take()).bytes(data.take());
  std::vector<std::uint64_t> anchors;
  std::uint64_t at = table_end;
  for (const File& file : files) {
    anchors.push_back(at);
    at += file.data.size();
  }
  Studied found = studied(bytes.view(), anchors);
  EXPECT_EQ(found.files, files) << found.draft;
}

}  // namespace
}  // namespace operculum::study

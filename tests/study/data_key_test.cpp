// Entries under a key: it shows by what their files begin with, or by how often bytes come.
#include <gtest/gtest.h>

#include <functional>

#include "support/byte_writer.h"
#include "support/sample_tree.h"
#include "support/studied.h"

namespace operculum::study {
namespace {

using namespace test;

/// The key byte for one that lies so far behind its entry's front, and there in the file.
using KeyByte = std::function<Byte(std::uint64_t in_entry, std::uint64_t in_file)>;

Byte of(std::string_view key, std::uint64_t i) {
  return static_cast<Byte>(key[static_cast<std::size_t>(i % key.size())]);
}

Bytes sound(std::uint32_t number) {
  std::uint32_t size = 200 + number * 14;
  return ByteWriter().text("RIFF").u32(size + 4).text("WAVE").bytes(noise(size, number)).take();
}

Bytes picture(std::uint32_t number) {
  ByteWriter out;
  out.text("\x89PNG\r\n\x1a\n").u32be(13).text("IHDR").zeros(13 + 4);
  out.u32be(150 + number * 9).text("IDAT").bytes(noise(150 + number * 9, number)).zeros(4);
  return out.u32be(0).text("IEND").zeros(4).take();
}

Bytes note(std::uint32_t number) {
  std::string text;
  for (std::uint32_t i = 0; i < 12 + number; ++i) text += "high water at the pier was seen by the warden\n";
  return to_bytes(text);
}

std::vector<File> files_of(Bytes (*make)(std::uint32_t)) {
  std::vector<File> files;
  for (std::uint32_t i = 0; i < 14; ++i) files.push_back({"n" + std::to_string(i * 7 + 3) + ".bin", make(i)});
  return files;
}

Bytes pack(const std::vector<File>& files, const KeyByte& key) {
  ByteWriter index, data;
  std::size_t at = 8 + 24 * files.size();
  for (const File& file : files) {
    index.text(padded(file.name, 16)).u32(static_cast<std::uint32_t>(at));
    index.u32(static_cast<std::uint32_t>(file.data.size()));
    for (std::size_t i = 0; i < file.data.size(); ++i)
      data.u8(static_cast<Byte>(file.data[i] ^ key(i, at + i)));
    at += file.data.size();
  }
  ByteWriter all;
  all.text("BAYX").u32(static_cast<std::uint32_t>(files.size())).bytes(index.take()).bytes(data.take());
  return all.take();
}

struct KeyCase {
  std::string name;
  Bytes (*make)(std::uint32_t);
  KeyByte key;
  std::string cipher;  ///< in the draft
};

class StudyDataKey : public ::testing::TestWithParam<KeyCase> {};

TEST_P(StudyDataKey, IsTakenOff) {
  const KeyCase& one = GetParam();
  std::vector<File> files = files_of(one.make);
  Studied found = studied(pack(files, one.key));
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("| " + one.cipher), std::string::npos) << found.draft;
}

INSTANTIATE_TEST_SUITE_P(
    Keys, StudyDataKey,
    ::testing::Values(
        KeyCase{"OneByte", sound, [](auto, auto) { return Byte{0xa5}; }, "xor(0xa5)"},
        KeyCase{"FourBytesFromEachFront", sound, [](auto i, auto) { return of("\x91\xe2\x73\x08", i); },
                "xor(hex \"91e27308\")"},
        KeyCase{"SevenBytesThroughTheFile", picture, [](auto, auto i) { return of("limpets", i); },
                "xor(hex \"6c696d70657473\", start = item.at)"},
        KeyCase{"ElevenBytesOverText", note, [](auto i, auto) { return of("saltmarshes", i); },
                "xor(hex \"73616c746d617273686573\")"},
        KeyCase{"GrowingFromEachFront", picture, [](auto i, auto) { return static_cast<Byte>(0x31 + 3 * i); },
                "lcg(46, 1, 3, 0)"},
        KeyCase{"GrowingThroughTheFile", sound, [](auto, auto i) { return static_cast<Byte>(7 + 5 * i); },
                "lcg(2 + (item.at) * 5, 1, 5, 0)"}),
    [](const auto& one) { return one.param.name; });

TEST(StudyDataKeyAlone, IsNotLookedForWhereFilesAreRecognised) {
  Studied found = studied(pack(files_of(picture), [](auto, auto) { return Byte{0}; }));
  EXPECT_EQ(found.files, files_of(picture));
  EXPECT_EQ(found.draft.find("xor"), std::string::npos) << found.draft;
}

/// A key of some letters makes a text of zeros, and of small numbers that come again.
TEST(StudyDataKeyAlone, IsNoneOfSmallNumbers) {
  auto readings = [](std::uint32_t i) {
    ByteWriter out;
    for (std::uint32_t k = 0; k < 40 + i; ++k) out.u32(k * 60 % 900 + i).u32(i % 3);
    return out.take();
  };
  auto patterns = [](std::uint32_t i) {
    Bytes out;
    for (std::uint32_t k = 0; k < 18 + i; ++k)
      for (int shade : {0x3f, 0x06, 0x1c, 0x05, 0x3b, 0x1a}) out.push_back(static_cast<Byte>(shade + i % 4));
    return out;
  };
  for (auto make : {+readings, +patterns}) {
    std::vector<File> files = files_of(make);
    Studied found = studied(pack(files, [](auto, auto) { return Byte{0}; }));
    EXPECT_EQ(found.files, files);
    EXPECT_EQ(found.draft.find("xor"), std::string::npos) << found.draft;
  }
}

TEST(StudyDataKeyAlone, IsNoneWhereNothingComesOut) {
  Studied found = studied(pack(files_of([](std::uint32_t i) { return noise(300 + i * 11, i); }),
                               [](auto, auto) { return Byte{0x5a}; }));
  EXPECT_EQ(found.draft.find("xor"), std::string::npos) << found.draft;
  EXPECT_EQ(found.files.size(), 14u);
}

}  // namespace
}  // namespace operculum::study

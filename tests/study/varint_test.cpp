// Records whose numbers take as many bytes as they need.
#include <gtest/gtest.h>

#include "base/checksum.h"
#include "codec/codec.h"
#include "support/byte_writer.h"
#include "support/sample_tree.h"
#include "support/studied.h"

namespace operculum::study {
namespace {

using namespace test;

void leb128(ByteWriter& out, std::uint64_t value) {
  for (; value >= 0x80; value >>= 7) out.u8((value & 0x7f) | 0x80);
  out.u8(value);
}

void vlq(ByteWriter& out, std::uint64_t value) {
  Bytes digits = {static_cast<Byte>(value & 0x7f)};
  while ((value >>= 7) != 0) digits.insert(digits.begin(), static_cast<Byte>((value & 0x7f) | 0x80));
  out.bytes(digits);
}

TEST(StudyVarints, ReadsATableOfNamesPlacesAndSizes) {
  std::vector<File> files = exhibits(40);
  ByteWriter index, data;
  for (const File& file : files) {
    leb128(index, file.name.size());
    index.text(file.name);
    leb128(index, 1000 + data.view().size());
    leb128(index, file.data.size());
    data.bytes(file.data);
  }
  ByteWriter bytes;
  bytes.text("BAY9").u32(40).bytes(index.take());
  ASSERT_LT(bytes.view().size(), 1000u);
  bytes.zeros(1000 - bytes.view().size()).bytes(data.take());
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("  at leb128"), std::string::npos) << found.draft;
}

TEST(StudyVarints, ReadsSizesAloneAndACountOfTwoBytes) {
  std::vector<File> files = exhibits(150);
  ByteWriter index, data;
  leb128(index, files.size());
  for (const File& file : files) {
    leb128(index, file.data.size());
    leb128(index, file.name.size());
    index.text(file.name).u32(crc32(0, file.data));
    data.bytes(file.data);
  }
  ByteWriter bytes;
  bytes.text("BAYA").bytes(index.take()).bytes(data.take());
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("Item[(leb128 at 4)] at 6"), std::string::npos) << found.draft;
}

TEST(StudyVarints, FollowsHeadersWithTheHighestBitsFirst) {
  std::vector<File> files = exhibits(20);
  ByteWriter bytes;
  bytes.text("BAYB");
  for (std::size_t i = 0; i < files.size(); ++i) {
    const File& file = files[i];
    vlq(bytes, i * 5);
    vlq(bytes, file.name.size());
    bytes.text(file.name);
    vlq(bytes, file.data.size());
    bytes.bytes(file.data);
  }
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("  size vlq"), std::string::npos) << found.draft;
}

TEST(StudyVarints, UnpacksWhatTheyTellTheSizeOf) {
  std::vector<File> files = exhibits(30);
  ByteWriter index, data;
  for (std::size_t i = 0; i < files.size(); ++i) {
    File& file = files[i];
    file.data = Bytes(700 + i * 91, static_cast<Byte>('a' + i));
    Bytes noisy = noise(200, static_cast<std::uint32_t>(i));
    file.data.insert(file.data.end(), noisy.begin(), noisy.end());
    Bytes stored = encode("zlib", file.data);
    leb128(index, file.name.size());
    index.text(file.name);
    leb128(index, stored.size());
    leb128(index, file.data.size());
    data.bytes(stored);
  }
  ByteWriter bytes;
  bytes.text("BAYC").u32(30).bytes(index.take()).bytes(data.take());
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("| zlib"), std::string::npos) << found.draft;
}

}  // namespace
}  // namespace operculum::study

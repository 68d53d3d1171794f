// Files of several members that get another content: what does not change stays as it lies.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "codec/codec.h"
#include "support/byte_writer.h"
#include "support/rewritten.h"
#include "support/sample_tree.h"
#include "support/system_tools.h"
#include "support/temp_folder.h"

namespace operculum::test {
namespace {

constexpr std::size_t kUnit = 40'000;

std::string tides(std::size_t size) {
  std::string text;
  for (int i = 0; text.size() < size; ++i) text += std::to_string(i * 7 % 1013) + (i % 9 == 0 ? "\n" : " ");
  text.resize(size);
  return text;
}

/// Members of kUnit plain bytes each, the last with what is left.
std::vector<Bytes> members_of(const std::string& codec, const std::string& text) {
  std::vector<Bytes> out;
  for (std::size_t at = 0; at < text.size(); at += kUnit)
    out.push_back(encode(codec, to_bytes(text.substr(at, kUnit))));
  return out;
}
Bytes joined(const std::vector<Bytes>& members) {
  Bytes out;
  for (const Bytes& one : members) out.insert(out.end(), one.begin(), one.end());
  return out;
}
Bytes rewritten(const Bytes& before, const std::string& name, const std::string& text) {
  std::string entry(open_bytes(before, name)->entries()[0].path);
  return Rewritten(before, name).set(entry, text).bytes();
}

class MembersKept : public testing::TestWithParam<const char*> {};

TEST_P(MembersKept, WhateverTheNewContentIs) {
  const std::string codec = GetParam(), text = tides(3 * kUnit + 500);
  Bytes before = joined(members_of(codec, text));
  for (std::size_t size : {text.size() + 2 * kUnit, text.size() + 7, text.size() - 7, 2 * kUnit, kUnit + 1}) {
    std::string other = tides(size);
    EXPECT_EQ(rewritten(before, "tides.bin", other), joined(members_of(codec, other))) << size;
  }
  std::string other = text;
  other[kUnit + 5] ^= 1;
  EXPECT_EQ(rewritten(before, "tides.bin", other), joined(members_of(codec, other)));
  Bytes emptied = rewritten(before, "tides.bin", "");
  EXPECT_EQ(emptied, encode(codec, {}));
}
INSTANTIATE_TEST_SUITE_P(Codecs, MembersKept, testing::Values("gzip", "zstd", "lz4", "bzip2", "xz"));

TEST(MembersKept, WhatFillsUpBetweenXzStreamsStays) {
  std::string text = tides(2 * kUnit + 300), other = text;
  other[5] ^= 1;
  auto file = [](const std::string& all) {
    std::vector<Bytes> streams = members_of("xz", all);
    streams[0].resize(streams[0].size() + 8);
    streams[2].resize(streams[2].size() + 4);
    return joined(streams);
  };
  EXPECT_EQ(rewritten(file(text), "tides.xz", other), file(other));
  Bytes blocks = joined({encode("xz", to_bytes(text)), encode("xz", {}), encode("xz", to_bytes("neap"))});
  EXPECT_EQ(rewritten(blocks, "tides.xz", other), encode("xz", to_bytes(other)));  // an empty one between
}

TEST(MembersKept, OfUnequalSizesTheLastTakesTheRest) {
  std::string text = tides(3000);
  std::vector<Bytes> members = {encode("gzip", to_bytes(text.substr(0, 100))),
                                encode("gzip", to_bytes(text.substr(100, 2000))),
                                encode("gzip", to_bytes(text.substr(2100)))};
  Bytes before = joined(members);
  before.resize(before.size() + 512);  // as on a tape
  std::string longer = text + "neap\n";
  members[2] = encode("gzip", to_bytes(longer.substr(2100)));
  Bytes expected = joined(members);
  expected.resize(expected.size() + 512);
  EXPECT_EQ(rewritten(before, "tides.gz", longer), expected);
}

/// A member whose extra field states its size, and the empty one that ends such a file.
Bytes block(const std::string& text) {
  Bytes packed = encode("deflate", to_bytes(text)), whole = encode("gzip", to_bytes(text));
  ByteView trailer = ByteView(whole).last(8);
  constexpr std::size_t kHead = 18;
  return ByteWriter()
      .u8(0x1f)
      .u8(0x8b)
      .u8(8)
      .u8(4)
      .u32(0)
      .u8(0)
      .u8(0xff)
      .u16(6)
      .text("BC")
      .u16(2)
      .u16(kHead + packed.size() + 8 - 1)
      .bytes(packed)
      .bytes(trailer)
      .take();
}

TEST(MembersKept, BlocksStateTheirSizesAndTheMarkStaysLast) {
  std::string text = tides(2 * kUnit + 300), other = text;
  other[kUnit + 3] ^= 1;
  other += tides(kUnit);
  auto file = [](const std::string& all) {
    std::vector<Bytes> blocks;
    for (std::size_t at = 0; at < all.size(); at += kUnit) blocks.push_back(block(all.substr(at, kUnit)));
    blocks.push_back(block(""));
    return joined(blocks);
  };
  Bytes after = rewritten(file(text), "tides.gz", other);
  EXPECT_EQ(after, file(other));
  Bytes noisy = file(text);
  std::string large(as_text(noise(70'000)));
  EXPECT_NO_THROW(rewritten(noisy, "tides.gz", large));  // in blocks of 40,000 bytes
}

TEST(MembersKept, FramesThatTellOfOthersAreLeftOut) {
  std::string text = tides(2 * kUnit);
  std::vector<Bytes> frames = members_of("zstd", text);
  Bytes told = ByteWriter().u32(0x184D2A50).u32(4).u32(frames[1].size()).take();  // of the frame behind it
  Bytes before = joined({frames[0], told, frames[1]});
  Rewritten made(before, "tides.zst");
  Bytes after = made.set("tides", text + "x").bytes();
  EXPECT_EQ(after, encode("zstd", to_bytes(text + "x")));
  ASSERT_FALSE(made.notes().empty());
  EXPECT_EQ(made.notes()[0], "tides: its frames become one, and those without data are left out");
}

TEST(MembersKept, TheSystemsProgramReadsThem) {
  if (!on_path("gzip")) GTEST_SKIP() << "this machine has no gzip program";
  TempFolder folder;
  std::string text = tides(2 * kUnit + 9), other = text + tides(kUnit);
  other[kUnit] ^= 1;
  folder.write("after.gz", rewritten(joined(members_of("gzip", text)), "tides.gz", other));
  EXPECT_EQ(run("gzip", {"-dc", "after.gz"}, folder.path()).out, other);
}

}  // namespace
}  // namespace operculum::test

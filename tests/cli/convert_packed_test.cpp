// convert: what both sides pack alike is not packed anew.
#include <gtest/gtest.h>

#include "codec/codec.h"
#include "support/byte_writer.h"
#include "support/has.h"
#include "support/program.h"
#include "support/sample_tree.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

std::string prose() {
  std::string text;
  for (int i = 0; i < 800; ++i) text += "low water at " + std::to_string(i * 37 % 1440) + " minutes\n";
  return text;
}

/// Deflate data as no settings of ours make it.
Bytes odd_deflate(const std::string& plain) {
  return encode("deflate", as_bytes(plain), {.level = 1, .memory_level = 2, .strategy = 2});
}

bool holds(const std::string& file, const Bytes& part) {
  return file.find(as_text(part)) != std::string::npos;
}

std::string crab_zip() {
  Bytes zip =
      ZipBuilder()
          .add({.name = "textures/crab.txt", .data = to_bytes(prose()), .stored = odd_deflate(prose())})
          .build();
  return std::string(as_text(zip));
}

TEST(ConvertPacked, AZipKeepsTheDeflateDataOfAnother) {
  TempFolder folder;
  folder.write("a.zip", crab_zip());
  Ran ran = operculum({"convert", "a.zip/textures", "--as", "zip", "--into", "b.zip"}, folder.path());
  ASSERT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(holds(folder.read("b.zip"), odd_deflate(prose())));
  EXPECT_EQ(operculum({"show", "b.zip/crab.txt"}, folder.path()).out, prose());
  EXPECT_EQ(operculum({"verify", "b.zip"}, folder.path()).exit_code, 0);
  // Whoever asks for a level wants it packed anew; another method packs anew, too.
  for (std::vector<std::string> more : {std::vector<std::string>{"--level", "9"}, {"--method", "zstd"}}) {
    std::vector<std::string> words = {"convert", "a.zip/textures", "--as", "zip", "--into", more[1] + ".zip"};
    words.insert(words.end(), more.begin(), more.end());
    ASSERT_EQ(operculum(words, folder.path()).exit_code, 0);
    EXPECT_FALSE(holds(folder.read(more[1] + ".zip"), odd_deflate(prose())));
    EXPECT_EQ(operculum({"show", more[1] + ".zip/crab.txt"}, folder.path()).out, prose());
  }
}

TEST(ConvertPacked, AFileBecomesGzipAsItLies) {
  TempFolder folder;
  folder.write("a.zip", crab_zip());
  Ran ran =
      operculum({"convert", "a.zip/textures/crab.txt", "--as", "gzip", "--into", "crab.gz"}, folder.path());
  ASSERT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(holds(folder.read("crab.gz"), odd_deflate(prose())));
  EXPECT_EQ(run("gzip", {"-dc", "crab.gz"}, folder.path()).out, prose());
  Ran zst =
      operculum({"convert", "a.zip/textures/crab.txt", "--as", "zst", "--into", "crab.zst"}, folder.path());
  ASSERT_EQ(zst.exit_code, 0) << zst.err;
  EXPECT_EQ(operculum({"show", "crab.zst/crab"}, folder.path()).out, prose());
}

TEST(ConvertPacked, ADescribedPackGivesItsDataToo) {
  TempFolder folder;
  folder.write("gull.layout", R"(layout "Gull box"
record Head {
  magic bytes "GULL"
  size  u32
  full  u32
}
head = Head at 0
entry {
  path = "call"
  data = bytes(12, head.size) | zlib
  size = head.full
}
)");
  Bytes packed = encode("zlib", as_bytes(prose()), {.level = 1, .memory_level = 2, .strategy = 2});
  ByteWriter box;
  box.text("GULL").u32(packed.size()).u32(prose().size()).bytes(packed);
  folder.write("box.gull", as_text(box.view()));
  Ran ran = operculum({"convert", "--layout", "gull.layout", "box.gull", "--as", "zip", "--into", "b.zip"},
                      folder.path());
  ASSERT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(holds(folder.read("b.zip"), odd_deflate(prose())));
  EXPECT_EQ(operculum({"show", "b.zip/call"}, folder.path()).out, prose());
}

TEST(ConvertPacked, DamagedDataIsNotTakenOver) {
  TempFolder folder;
  Bytes broken = odd_deflate(prose());
  broken[broken.size() / 2] ^= 0xff;
  Bytes zip = ZipBuilder().add({.name = "t/crab.txt", .data = to_bytes(prose()), .stored = broken}).build();
  folder.write("a.zip", as_text(zip));
  Ran ran = operculum({"convert", "a.zip/t", "--as", "zip", "--into", "b.zip"}, folder.path());
  EXPECT_EQ(ran.exit_code, 3);
  EXPECT_TRUE(has(ran.err, "\"t/crab.txt\" cannot be read, so nothing is written")) << ran.err;
  EXPECT_FALSE(folder.has("b.zip"));
}

}  // namespace
}  // namespace operculum::test

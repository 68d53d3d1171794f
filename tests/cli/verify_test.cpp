// What verify says, and what it compares.
#include <gtest/gtest.h>

#include "support/byte_writer.h"
#include "support/has.h"
#include "support/program.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

/// A stored ZIP archive in a ZIP archive, damaged where only the outer checksum covers it.
Bytes damaged_around() {
  Bytes inner = ZipBuilder().stored("pay-100.txt", to_bytes("hello")).build();
  Bytes outer = ZipBuilder().stored("inner.zip", inner).build();
  std::string text(outer.begin(), outer.end());
  for (std::size_t at = text.find("pay-100"); at != std::string::npos; at = text.find("pay-100", at))
    text[at + 4] = '9';
  return to_bytes(text);
}

TEST(Verify, ComparesTheChecksumAroundAContainerThatIsEntered) {
  TempFolder folder;
  folder.write("outer.zip", damaged_around());
  Ran ran = operculum({"verify", "--deep", "outer.zip"}, folder.path());
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_TRUE(has(ran.out, "outer.zip/inner.zip: checksum differs")) << ran.out;
  Ran unpacked = operculum({"unpack", "--deep", "outer.zip", "--into", "out"}, folder.path());
  EXPECT_EQ(unpacked.exit_code, 1);
  EXPECT_TRUE(has(unpacked.err, "what came out of it may be damaged")) << unpacked.err;
}

TEST(Verify, SaysHowManyWereDecodedComparedAndFailed) {
  TempFolder folder;
  folder.write("mixed.zip", ZipBuilder()
                                .add("good", "high water")
                                .add({.name = "bad", .data = to_bytes("low water"), .crc = 1})
                                .build());
  Ran mixed = operculum({"verify", "mixed.zip"}, folder.path());
  EXPECT_TRUE(has(mixed.out,
                  "mixed.zip: 1 of 2 files decoded (10 B); it has a checksum, and it is right; 1 failed.\n"))
      << mixed.out;
  EXPECT_FALSE(has(mixed.out, "No faults")) << mixed.out;
  folder.write("plain.tar", TarBuilder().file("a", "x").file("b", "y").build());
  EXPECT_EQ(operculum({"verify", "plain.tar"}, folder.path()).out,
            "plain.tar: 2 files decoded (2 B); there is no checksum to compare. No faults.\n");
  Ran nothing = operculum({"verify", "plain.tar", "--match", "*.png"}, folder.path());
  EXPECT_EQ(nothing.exit_code, 1);
  EXPECT_FALSE(has(nothing.out, "No faults")) << nothing.out;
}

TEST(Verify, IsQuietWhenAllIsWellAndHintsAtWhatItDidNotEnter) {
  TempFolder folder;
  Bytes inner = ZipBuilder().add("x", "y").build();
  folder.write("outer.tar", TarBuilder().add({.name = "inner.zip", .data = inner}).build());
  Ran quiet = operculum({"verify", "-q", "outer.tar"}, folder.path());
  EXPECT_EQ(quiet.out + quiet.err, "");
  Ran spoken = operculum({"verify", "outer.tar"}, folder.path());
  EXPECT_TRUE(has(spoken.err, "--deep verifies the contents, too")) << spoken.err;
  EXPECT_FALSE(has(operculum({"verify", "--deep", "outer.tar"}, folder.path()).err, "--deep"))
      << "they were entered";
}

TEST(Verify, FoldsEqualFaults) {
  TempFolder folder;
  ZipBuilder zip;
  for (int i = 0; i < 20; ++i) zip.add({.name = std::to_string(i), .data = to_bytes("x"), .crc = 1});
  folder.write("bad.zip", zip.build());
  Ran ran = operculum({"verify", "bad.zip"}, folder.path());
  EXPECT_TRUE(has(ran.out, "17 more of these: checksum differs")) << ran.out;
  EXPECT_EQ(std::count(ran.out.begin(), ran.out.end(), '\n'), 5) << ran.out;
}

TEST(Verify, ComparesAFileWithAPublishedDigest) {
  TempFolder folder;
  folder.write("tide.txt", "");
  const std::string empty = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";
  EXPECT_EQ(operculum({"verify", "tide.txt", "--sha256", empty}, folder.path()).exit_code, 0);
  folder.write("SHA256SUMS", std::string(64, '0') + "  tide.txt\n");
  Ran differs = operculum({"verify", "tide.txt", "--sha256", "SHA256SUMS"}, folder.path());
  EXPECT_EQ(differs.exit_code, 1);
  EXPECT_TRUE(has(differs.out, "its SHA-256 differs (published 0000")) << differs.out;
}

TEST(Show, BeyondTheEndIsAnError) {
  TempFolder folder;
  folder.write("a.zip", ZipBuilder().add("x", "12345").build());
  Ran ran = operculum({"show", "a.zip/x", "--from", "6"}, folder.path());
  EXPECT_EQ(ran.exit_code, 3);
  EXPECT_TRUE(has(ran.err, "it has 5 bytes, so there is nothing from 6 on")) << ran.err;
  EXPECT_EQ(operculum({"show", "a.zip/x", "--from", "2"}, folder.path()).out, "345");
}

TEST(Identify, TellsPartsThatWereJoinedAndEndsWithTheRightCode) {
  TempFolder folder;
  Bytes zip = ZipBuilder().add("x", std::string(1000, 'y')).build();
  folder.write("survey.001", ByteView(zip).first(50));
  folder.write("survey.002", ByteView(zip).subspan(50));
  Ran joined = operculum({"identify", "survey.001"}, folder.path());
  EXPECT_TRUE(has(joined.out, "2 files were joined, from survey.001 to survey.002")) << joined.out;
  folder.write("cut.zip", ByteView(zip).first(zip.size() - 30));
  EXPECT_EQ(operculum({"identify", "cut.zip"}, folder.path()).exit_code, 1) << "a fault was found";
}

TEST(Identify, GeneralEndingsClaimNothing) {
  TempFolder folder;
  for (const char* name : {"a.img", "a.bin", "a.dat", "a.iso", "a.rom", "a.mod", "a.pak", "a.run"}) {
    folder.write(name, "nothing that anybody knows");
    Ran ran = operculum({"identify", name}, folder.path());
    EXPECT_FALSE(has(ran.out, "warning")) << ran.out;
  }
  folder.write("a.zip", "nothing that anybody knows");
  EXPECT_TRUE(has(operculum({"identify", "a.zip"}, folder.path()).out, "but it is not a ZIP archive"));
}

TEST(Identify, NamesWhatThisProgramDoesNotOpen) {
  TempFolder folder;
  Bytes swap(1 << 20);
  std::string_view mark = "SWAPSPACE2";
  swap[1024] = 1;  // the version
  std::copy(mark.begin(), mark.end(), swap.begin() + 4096 - 10);
  swap[1028] = 0xFF;  // the last page
  folder.write("swap.img", swap);
  Ran ran = operculum({"identify", "swap.img"}, folder.path());
  EXPECT_TRUE(has(ran.out, "swap volume, which this program does not open")) << ran.out;
}

TEST(Identify, NamesAVolumeWhoseHeaderLiesFarFromBothEnds) {
  TempFolder folder;
  constexpr std::size_t kSector = 512, kSize = 16 << 20, kPrimary = 8 << 20;
  Canvas header(kSector),
      disk(kSize);  // Common RAID Disk Data Format 2.0, 4.1: the anchor at the end names it
  header.big(0, 0xde11de11, 4);
  header.text(8, "Tide gauge archive disk101.02.00");
  header.big(96, kPrimary / kSector, 8);
  disk.put(kPrimary, header.part(0, kSector));
  disk.put(kSize - kSector, header.part(0, kSector));
  folder.write("member.img", ByteView(disk.take()));
  Ran ran = operculum({"identify", "member.img"}, folder.path());
  EXPECT_TRUE(has(ran.out, "ddf_raid_member volume, which this program does not open")) << ran.out;
}

TEST(Identify, OneLineEach) {
  TempFolder folder;
  folder.write("shelf/a.zip", ZipBuilder().add("x", "12345").build());
  folder.write("shelf/b.txt", "tide\n");
  EXPECT_EQ(operculum({"identify", "--brief", "shelf"}, folder.path()).out,
            "shelf/a.zip: ZIP archive, 107 B, 1 file; 5 B unpacked\n"
            "shelf/b.txt: a text file (text/plain), 5 B\n");
}

}  // namespace
}  // namespace operculum::test

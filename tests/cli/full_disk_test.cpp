// The disk is full, and other things that happen to a folder or a file while the program works on it.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <cerrno>

#include "support/has.h"
#include "support/program.h"
#include "support/sample_tree.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

struct FullDisk : testing::Test {
  TempFolder temp;

  void SetUp() override {
    ZipBuilder zip;
    for (int i = 0; i < 40; ++i) zip.stored(std::to_string(i) + ".bin", noise(40'000));
    temp.write("a.zip", zip.build());
  }
  static std::size_t count(const std::string& text, const std::string& part) {
    std::size_t found = 0;
    for (std::size_t at = text.find(part); at != std::string::npos; at = text.find(part, at + 1)) ++found;
    return found;
  }
  /// The program with one sort of call that fails from the n-th on.
  Ran failing(const std::string& fault, const std::vector<std::string>& words) {
    return operculum(words, temp.path(), {{"OPERCULUM_FAULT", fault}});
  }
};

TEST_F(FullDisk, EndsTheRunWithOneSentenceThatSaysHowMuchIsMissing) {
  for (int error : {ENOSPC, EDQUOT}) {
    Ran ran = failing("write:10:" + std::to_string(error) + ":on", {"unpack", "a.zip", "--into", "out"});
    EXPECT_EQ(ran.exit_code, 3) << ran.err;
    EXPECT_EQ(count(ran.err, "error:"), 1u) << ran.err;
    EXPECT_TRUE(has(ran.err, " more are needed")) << ran.err;
    std::string whole(as_text(noise(40'000)));
    for (int i = 0; i < 40; ++i) {
      std::string name = "out/" + std::to_string(i) + ".bin";
      EXPECT_TRUE(!temp.has(name) || temp.read(name) == whole) << name;
    }
    std::filesystem::remove_all(temp.path("out"));
  }
}

TEST_F(FullDisk, LeavesNoFolderThatNothingCameInto) {
  Ran ran = failing("write:1:28:on", {"unpack", "a.zip", "--into", "new/out"});
  EXPECT_EQ(ran.exit_code, 3) << ran.err;
  EXPECT_EQ(temp.listing(), "a.zip");
}

TEST_F(FullDisk, OfARebuildLeavesTheOriginal) {
  std::string before = temp.read("a.zip");
  temp.write("new.bin", "new");
  Ran ran = failing("write:1:28:on", {"rebuild", "a.zip", "--set", "3.bin=new.bin", "--in-place"});
  EXPECT_EQ(ran.exit_code, 3) << ran.err;
  EXPECT_TRUE(has(ran.err, " more are needed")) << ran.err;
  EXPECT_TRUE(temp.read("a.zip") == before);
  EXPECT_EQ(temp.listing(), "a.zip new.bin");
}

TEST_F(FullDisk, AReadOnlyFolderAndOneThatIsGoneAreTold) {
  Ran read_only = failing("make:1:30", {"unpack", "a.zip", "--into", "out"});
  EXPECT_EQ(read_only.exit_code, 3);
  EXPECT_TRUE(has(read_only.err, "Read-only file system")) << read_only.err;
  Ran gone = failing("name:5:2:on", {"unpack", "a.zip", "--into", "out"});
  EXPECT_EQ(gone.exit_code, 1) << gone.err;
  EXPECT_TRUE(has(gone.err, "No such file or directory")) << gone.err;
}

TEST_F(FullDisk, WhereFilesWithoutNamesAreUnknownADeadRunsLeftoversGo) {
  temp.write("out/.operculum-4242-7.part", "half");
  timespec long_ago[2] = {{1'000'000, 0}, {1'000'000, 0}};
  utimensat(AT_FDCWD, temp.path("out/.operculum-4242-7.part").c_str(), long_ago, 0);
  temp.write("out/.operculum-1-1.part", "another run's, of this minute");
  temp.write("out/.operculum-note.txt", "mine");
  Ran ran = failing("unnamed:1:95:on", {"unpack", "a.zip", "--into", "out"});
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_FALSE(temp.has("out/.operculum-4242-7.part"));
  EXPECT_TRUE(temp.has("out/.operculum-1-1.part"));
  EXPECT_TRUE(temp.has("out/.operculum-note.txt"));
  EXPECT_TRUE(temp.read("out/7.bin") == as_text(noise(40'000)));
}

TEST_F(FullDisk, AReadErrorIsTheFilesAloneWhereItCanBe) {
  Ran ran = failing("read:20:5:on", {"verify", "a.zip"});
  EXPECT_TRUE(ran.exit_code == 1 || ran.exit_code == 3) << ran.exit_code;
  EXPECT_TRUE(has(ran.err + ran.out, "Input/output error")) << ran.err << ran.out;
}

}  // namespace
}  // namespace operculum::test

#include "io/output_folder.h"

#include <gtest/gtest.h>
#include <sys/stat.h>

#include "base/error.h"
#include "support/refusal.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

struct OutputFolderTest : testing::Test {
  test::TempFolder temp;
  std::string root = temp.path("out");

  std::optional<std::string> put(OutputFolder& folder, const std::string& path, std::string_view text,
                                 Existing existing = Existing::keep) {
    OutputFile file = folder.begin_file(path);
    file.write(as_bytes(text));
    return file.commit({0644, from_unix(1772373908)}, existing);
  }
};

TEST_F(OutputFolderTest, GivesTheFinalNameOnlyToCompleteFiles) {
  OutputFolder folder(root);
  {
    OutputFile file = folder.begin_file("a/crab.png");
    file.write(as_bytes("half"));
    EXPECT_FALSE(temp.has("out/a/crab.png"));
  }
  EXPECT_EQ(temp.listing("out"), "a/") << "an abandoned file leaves nothing";
  EXPECT_EQ(put(folder, "a/crab.png", "whole"), "a/crab.png");
  EXPECT_EQ(temp.read("out/a/crab.png"), "whole");
}

TEST_F(OutputFolderTest, SetsModeAndTime) {
  OutputFolder folder(root);
  OutputFile file = folder.begin_file("run");
  file.commit({0751, from_unix(1000, 5)}, Existing::keep);
  struct stat status {};
  ASSERT_EQ(stat(temp.path("out/run").c_str(), &status), 0);
  EXPECT_EQ(status.st_mode & 07777, 0751u);
  EXPECT_EQ(status.st_mtim.tv_sec, 1000);
  EXPECT_EQ(status.st_mtim.tv_nsec, 5);
}

TEST_F(OutputFolderTest, KeepsReplacesOrRenames) {
  OutputFolder folder(root);
  temp.write("out/crab.png", "mine");
  EXPECT_EQ(put(folder, "crab.png", "new"), std::nullopt);
  EXPECT_EQ(temp.read("out/crab.png"), "mine");
  EXPECT_EQ(put(folder, "crab.png", "new", Existing::rename), "crab~2.png");
  EXPECT_EQ(put(folder, "crab.png", "newer", Existing::rename), "crab~3.png");
  EXPECT_EQ(temp.read("out/crab.png"), "mine");
  EXPECT_EQ(put(folder, "crab.png", "new", Existing::replace), "crab.png");
  EXPECT_EQ(temp.read("out/crab.png"), "new");
}

TEST_F(OutputFolderTest, FollowsNoLinkThatLeadsOut) {
  OutputFolder folder(root);
  std::filesystem::create_directory(temp.path("elsewhere"));
  std::filesystem::create_directory_symlink(temp.path("elsewhere"), temp.path("out/away"));
  std::filesystem::create_directory_symlink("../elsewhere", temp.path("out/up"));
  EXPECT_REFUSAL(put(folder, "away/crab.png", "x"), IoError,
                 "cannot open the folder \"away\": a link there leads out of the folder; not followed: "
                 "Invalid cross-device link");
  EXPECT_REFUSAL(put(folder, "up/crab.png", "x"), IoError,
                 "cannot open the folder \"up\": a link there leads out of the folder; not followed: Invalid "
                 "cross-device link");
  EXPECT_REFUSAL(folder.make_folder("up/reef"), IoError,
                 "cannot open the folder \"up\": a link there leads out of the folder; not followed: Invalid "
                 "cross-device link");
  EXPECT_REFUSAL(folder.make_symbolic_link("up/l", "x", {}), IoError,
                 "cannot open the folder \"up\": a link there leads out of the folder; not followed: Invalid "
                 "cross-device link");
  EXPECT_EQ(temp.listing("elsewhere"), "");
}

TEST_F(OutputFolderTest, UsesLinksThatStayInside) {
  OutputFolder folder(root);
  folder.make_folder("usr/lib");
  EXPECT_TRUE(folder.make_symbolic_link("lib", "usr/lib", {}));
  EXPECT_EQ(put(folder, "lib/tide.so", "x"), "lib/tide.so");
  EXPECT_EQ(temp.read("out/usr/lib/tide.so"), "x");
}

TEST_F(OutputFolderTest, ReplacesALinkAndNotWhatItNames) {
  OutputFolder folder(root);
  temp.write("precious", "mine");
  std::filesystem::create_symlink(temp.path("precious"), temp.path("out/crab.png"));
  EXPECT_EQ(put(folder, "crab.png", "new", Existing::replace), "crab.png");
  EXPECT_EQ(temp.read("precious"), "mine");
  EXPECT_EQ(temp.read("out/crab.png"), "new");
}

TEST_F(OutputFolderTest, WritesZerosAsHoles) {
  OutputFolder folder(root);
  OutputFile file = folder.begin_file("disk");
  Bytes zeros(1 << 20);
  file.write_sparse(as_bytes("head"));
  file.write_sparse(zeros);
  file.commit({0644, {}}, Existing::keep);
  struct stat status {};
  ASSERT_EQ(stat(temp.path("out/disk").c_str(), &status), 0);
  EXPECT_EQ(status.st_size, 4 + (1 << 20));
  EXPECT_LT(status.st_blocks * 512, 64 * 1024);
}

}  // namespace
}  // namespace operculum

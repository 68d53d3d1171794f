// The built program on disk images, as people use it.
#include <fcntl.h>
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/mount.h>
#include <sys/prctl.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <chrono>
#include <fstream>
#include <map>
#include <regex>
#include <thread>

#include "codec/codec.h"
#include "io/descriptor.h"
#include "support/disk_writer.h"
#include "support/ext_writer.h"
#include "support/fat_writer.h"
#include "support/has.h"
#include "support/iso_writer.h"
#include "support/json.h"
#include "support/program.h"
#include "support/squashfs_writer.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum {
namespace {

using namespace test;

/// A card: GPT, FAT and ext4, a SquashFS in that, a ZIP in that.
Bytes card() {
  SampleTree media = {
      {.path = "pack.zip", .data = ZipBuilder().add("scripts/tide.lua", "return 4.1\n").build()}};
  SampleTree system = {
      {.path = "opt", .kind = EntryKind::folder},
      {.path = "opt/media.squashfs", .data = make_squashfs(media)},
      {.path = "opt/run", .data = to_bytes("#!/bin/sh\n"), .mode = 0755, .user = 12, .group = 34},
      {.path = "hole.bin", .data = Bytes(2 << 20)}};
  return make_gpt({{make_fat({{.path = "boot.cfg", .data = to_bytes("kiosk\n")}}, 12, "BOOT"), "boot",
                    "c12a7328-f81f-11d2-ba4b-00a0c93ec93b"},
                   {make_ext(system, 4 << 20), "kiosk"}});
}

TEST(ImageCommands, OneLocatorGoesThroughEverything) {
  TempFolder folder;
  folder.write("card.img", ByteView(card()));
  folder.write("card.qcow2", ByteView(make_qcow2(card(), {.codec = BlockCodec::zstd})));
  for (const char* target : {"card.img/2/opt/media.squashfs/pack.zip/scripts/tide.lua",
                             "card.qcow2/kiosk/opt/media.squashfs/pack.zip/scripts/tide.lua"}) {
    Ran shown = operculum({"show", target}, folder.path());
    EXPECT_EQ(shown.exit_code, 0) << shown.err;
    EXPECT_EQ(shown.out, "return 4.1\n");
  }
  Ran missing = operculum({"show", "card.img/2/opt/medea.squashfs"}, folder.path());
  EXPECT_EQ(missing.exit_code, 3);
  Ran cased = operculum({"show", "card.img/2/opt/RUN"}, folder.path());
  EXPECT_NE(cased.err.find("did you mean \"opt/run\"?"), std::string::npos) << cased.err;
}

TEST(ImageCommands, UnpackGoesIntoAPartitionWithoutBeingAsked) {
  TempFolder folder;
  folder.write("card.img", ByteView(card()));
  Ran ran = operculum({"unpack", "card.img/1", "--into", "boot"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(folder.listing("boot"), "boot.cfg");
}

TEST(ImageCommands, IdentifyTellsTheStack) {
  TempFolder folder;
  folder.write("card.qcow2", ByteView(make_qcow2(card())));
  Ran told = operculum({"identify", "card.qcow2"}, folder.path());
  EXPECT_EQ(told.exit_code, 0) << told.err;
  for (const char* part : {"QCOW2 disk image, holding a disk with a GUID partition table",
                           "EFI system \"boot\"", "FAT file system \"BOOT\"",
                           "Linux file system \"kiosk\", 4.0 MiB: ext2/ext3/ext4 file system \"exhibit\"",
                           "used", "free", "in 3 ranges without a partition"})
    EXPECT_NE(told.out.find(part), std::string::npos) << part << "\n" << told.out;
  Ran json = operculum({"identify", "--json", "card.qcow2"}, folder.path());
  auto record = parse_json(json.out);
  ASSERT_EQ(record["layers"].size(), 2u);
  auto parts = record["layers"][1]["parts"];
  EXPECT_EQ(parts[1]["name"], "kiosk");
  EXPECT_EQ(parts[1]["format"], "ext2/ext3/ext4 file system");
  EXPECT_EQ(parts[1]["facts"]["label"], "exhibit");
}

TEST(ImageCommands, IdentifyShowsASuperblockFieldByField) {
  if (!on_path("mkfs.ext4")) GTEST_SKIP() << "this machine has no mkfs.ext4";
  TempFolder folder;
  ASSERT_EQ(
      run("sh", {"-c", "truncate -s 4M disk.img && mkfs.ext4 -q -L saltmarsh -N 64 disk.img"}, folder.path())
          .exit_code,
      0);
  Ran ran = operculum({"identify", "--fields", "disk.img"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(has(ran.out, "ext2/ext3/ext4 file system: superblock, after ")) << ran.out;
  EXPECT_TRUE(std::regex_search(ran.out, std::regex("\n1,024 +4  s_inodes_count +64 \\(0x40\\)\n")))
      << ran.out;
  EXPECT_TRUE(std::regex_search(ran.out, std::regex("\n1,144 +16  s_volume_name +\"saltmarsh\"\n")))
      << ran.out;
  auto record = parse_json(operculum({"identify", "--fields", "--json", "disk.img"}, folder.path()).out);
  auto shown = record["layers"][0]["records"][0];
  EXPECT_EQ(shown["at"], 1024);
  EXPECT_EQ(shown["fields"][0]["value"], "64 (0x40)");
  EXPECT_FALSE(has(operculum({"identify", "disk.img"}, folder.path()).out, "s_inodes_count"));
}

TEST(ImageCommands, IdentifyTellsOfPaddingAndOfCuts) {
  TempFolder folder;
  Bytes image = make_ext({}, 1 << 20);
  image.resize(image.size() + 4096);
  folder.write("padded.img", ByteView(image));
  EXPECT_NE(
      operculum({"identify", "padded.img"}, folder.path()).out.find("4,096 bytes follow the file system"),
      std::string::npos);
  image.resize(800'000);
  folder.write("cut.img", ByteView(image));
  EXPECT_NE(operculum({"identify", "cut.img"}, folder.path()).out.find("the image is cut short"),
            std::string::npos);
}

TEST(ImageCommands, ListShowsPartitionsWithTheirKind) {
  TempFolder folder;
  folder.write("card.img", ByteView(card()));
  Ran listed = operculum({"list", "card.img"}, folder.path());
  EXPECT_EQ(listed.exit_code, 0) << listed.err;
  EXPECT_NE(listed.out.find("2  Linux file system \"kiosk\""), std::string::npos) << listed.out;
  EXPECT_NE(listed.out.find("unallocated-1  unallocated"), std::string::npos) << listed.out;
  Ran deep = operculum({"list", "--paths", "--deep", "card.img/2"}, folder.path());
  EXPECT_NE(deep.out.find("opt/media.squashfs/pack.zip/scripts/tide.lua\n"), std::string::npos) << deep.out;
}

TEST(ImageCommands, UnpackKeepsRightsHolesAndLinks) {
  TempFolder folder;
  folder.write("card.img", ByteView(card()));
  Ran unpacked = operculum({"unpack", "card.img/2", "--into", "out"}, folder.path());
  EXPECT_EQ(unpacked.exit_code, 0) << unpacked.err;
  struct stat status {};
  ASSERT_EQ(stat(folder.path("out/opt/run").c_str(), &status), 0);
  EXPECT_EQ(status.st_mode & 0777, 0755u);
  EXPECT_EQ(status.st_mtim.tv_sec, 1772373908);
  EXPECT_EQ(status.st_uid, geteuid());  // owners only when asked
  ASSERT_EQ(stat(folder.path("out/hole.bin").c_str(), &status), 0);
  EXPECT_EQ(status.st_size, 2 << 20);
  Ran raw = operculum({"unpack", "card.img", "--into", "raw"}, folder.path());
  EXPECT_EQ(raw.exit_code, 0) << raw.err;
  ASSERT_EQ(stat(folder.path("raw/2").c_str(), &status), 0);
  EXPECT_EQ(status.st_size, 4 << 20);
  EXPECT_LT(status.st_blocks * 512, 3 << 20);  // its holes are holes again
}

TEST(ImageCommands, UnpackSetsOwnersAndAttributesWhenAsked) {
  TempFolder folder;
  folder.write("media.squashfs",
               ByteView(make_squashfs({{.path = "crab", .data = to_bytes("pinch")}}, {.extended = true})));
  folder.write("card.img", ByteView(card()));
  Ran plain = operculum({"unpack", "media.squashfs", "--into", "plain"}, folder.path());
  ASSERT_EQ(plain.exit_code, 0) << plain.err;
  char value[16];
  EXPECT_LT(getxattr(folder.path("plain/crab").c_str(), "user.exhibit", value, sizeof value), 0);
  Ran set = operculum({"unpack", "media.squashfs", "--into", "set", "--xattrs"}, folder.path());
  ASSERT_EQ(set.exit_code, 0) << set.err;
  ssize_t size = getxattr(folder.path("set/crab").c_str(), "user.exhibit", value, sizeof value);
  if (size < 0) {  // a file system without them: then it must be said
    EXPECT_NE(set.err.find("the attribute user.exhibit cannot be set"), std::string::npos) << set.err;
  } else {
    EXPECT_EQ(std::string(value, static_cast<std::size_t>(size)), "seven");
  }
  if (geteuid() == 0) {
    Ran owned = operculum({"unpack", "card.img/2/opt", "--into", "owned", "--owners"}, folder.path());
    ASSERT_EQ(owned.exit_code, 0) << owned.err;
    struct stat status {};
    ASSERT_EQ(stat(folder.path("owned/opt/run").c_str(), &status), 0);
    EXPECT_EQ(status.st_uid, 12u);
    EXPECT_EQ(status.st_gid, 34u);
  }
}

TEST(ImageCommands, TheOriginMarkIsPassedOnAndShown) {
  TempFolder folder;
  folder.write("media.squashfs", ByteView(make_squashfs({{.path = "crab", .data = to_bytes("pinch")}})));
  const std::string url = "https://saltmarsh.example/media.squashfs";
  if (setxattr(folder.path("media.squashfs").c_str(), "user.xdg.origin.url", url.data(), url.size(), 0) != 0)
    GTEST_SKIP() << "this file system keeps no attributes";
  EXPECT_NE(operculum({"identify", "media.squashfs"}, folder.path()).out.find("from      " + url),
            std::string::npos);
  operculum({"unpack", "media.squashfs", "--into", "marked"}, folder.path());
  operculum({"unpack", "media.squashfs", "--into", "clear", "--clear-origin"}, folder.path());
  char value[256];
  ssize_t size = getxattr(folder.path("marked/crab").c_str(), "user.xdg.origin.url", value, sizeof value);
  ASSERT_GT(size, 0);
  EXPECT_EQ(std::string(value, static_cast<std::size_t>(size)), url);
  EXPECT_LT(getxattr(folder.path("clear/crab").c_str(), "user.xdg.origin.url", value, sizeof value), 0);
}

TEST(ImageCommands, ViewsAreChosenByName) {
  TempFolder folder;
  folder.write("disc.iso",
               ByteView(make_iso({{.path = "crab with a long name.txt", .data = to_bytes("pinch")}})));
  EXPECT_EQ(operculum({"list", "--paths", "--view", "joliet", "disc.iso"}, folder.path()).out,
            "crab with a long name.txt\n");
  EXPECT_EQ(operculum({"list", "--paths", "--view", "plain", "disc.iso"}, folder.path()).out, "N00000.BIN\n");
  Ran wrong = operculum({"list", "--view", "sideways", "disc.iso"}, folder.path());
  EXPECT_EQ(wrong.exit_code, 2);
}

TEST(ImageCommands, ADamagedFolderCostsOnlyItself) {
  TempFolder folder;
  SampleTree tree = sample_tree();
  Bytes image = make_ext(tree, 4 << 20);
  // the folder "many" has its entries in blocks of its own: spoil the first
  std::size_t at = as_text(image).find("reading 000");
  ASSERT_NE(at, std::string_view::npos);
  std::fill_n(image.begin() + static_cast<std::ptrdiff_t>(at / 4096 * 4096), 4096, Byte{0xFF});
  folder.write("card.img", ByteView(image));
  Ran unpacked = operculum({"unpack", "card.img", "--into", "out"}, folder.path());
  EXPECT_EQ(unpacked.exit_code, 1);
  EXPECT_NE(unpacked.err.find("many: inode"), std::string::npos) << unpacked.err;
  EXPECT_EQ(folder.read("out/crab.txt"), "pinch\n");
  EXPECT_EQ(folder.read("out/gauge/run"), "#!/bin/sh\nexit 0\n");
}

// ---- the view in a folder

/// `operculum mount --foreground` in a process of its own.
class View {
 public:
  View(const TempFolder& folder, const std::string& target) : point_(folder.path("view")) {
    std::filesystem::create_directories(point_);
    child_ = fork();
    if (child_ == 0) {
      if (chdir(folder.path().c_str()) != 0) _exit(9);
      execl(std::getenv("OPERCULUM"), "operculum", "mount", "--foreground", target.c_str(), point_.c_str(),
            nullptr);
      _exit(9);
    }
    struct stat before {};
    stat(folder.path().c_str(), &before);
    for (int i = 0; i < 600; ++i) {  // until something is mounted there
      struct stat now {};
      if (stat(point_.c_str(), &now) == 0 && now.st_dev != before.st_dev) {
        mounted_ = true;
        return;
      }
      int status = 0;
      if (waitpid(child_, &status, WNOHANG) == child_) {
        child_ = -1;
        return;
      }
      std::this_thread::sleep_for(std::chrono::milliseconds(20));
    }
  }
  ~View() { stop(); }
  View(const View&) = delete;
  View& operator=(const View&) = delete;

  bool mounted() const { return mounted_; }
  const std::string& path() const { return point_; }
  int stop() {
    if (child_ < 0) return -1;
    kill(child_, SIGTERM);
    return wait_for_end();
  }
  void pause() const { kill(child_, SIGSTOP); }
  void go_on() const { kill(child_, SIGCONT); }
  int wait_for_end() {
    int status = 0;
    waitpid(child_, &status, 0);
    child_ = -1;
    return status;
  }

 private:
  std::string point_;
  pid_t child_ = -1;
  bool mounted_ = false;
};

TEST(Mount, ShowsNestedContainersAsFolders) {
  if (access("/dev/fuse", R_OK | W_OK) != 0) GTEST_SKIP() << "/dev/fuse cannot be used here";
  TempFolder folder;
  folder.write("card.img", ByteView(card()));
  View view(folder, "card.img");
  if (!view.mounted()) GTEST_SKIP() << "this machine does not let it mount";
  EXPECT_EQ(read_file(view.path() + "/2/opt/media.squashfs/pack.zip/scripts/tide.lua"), "return 4.1\n");
  EXPECT_EQ(read_file(view.path() + "/1/boot.cfg"), "kiosk\n");
  EXPECT_EQ(std::filesystem::file_size(view.path() + "/2/hole.bin"), 2u << 20);
  struct stat status {};
  ASSERT_EQ(stat((view.path() + "/2/opt/run").c_str(), &status), 0);
  EXPECT_EQ(status.st_mode & 0777, 0555u);
  EXPECT_EQ(status.st_mtim.tv_sec, 1772373908);
  EXPECT_FALSE(std::ofstream(view.path() + "/2/opt/run"));
  EXPECT_FALSE(std::filesystem::exists(view.path() + "/2/nothing"));
  EXPECT_TRUE(WIFEXITED(view.stop()));
  EXPECT_TRUE(std::filesystem::is_empty(view.path()));  // nothing is mounted there any more
}

/// A tar archive of 40 GB that is a hole but for a few bytes, packed: nothing of the hole is spooled or sent.
TEST(Mount, HolesStayHolesBehindASolidLayer) {
  if (access("/dev/fuse", R_OK | W_OK) != 0) GTEST_SKIP() << "/dev/fuse cannot be used here";
  constexpr std::uint64_t kSize = 40'000'000'000, kDataAt = 30'000'000'512;
  std::string map = "1\n" + std::to_string(kDataAt) + "\n5\n";
  map.resize(512);
  TarBuilder tar;
  tar.pax({{"GNU.sparse.major", "1"},
           {"GNU.sparse.minor", "0"},
           {"GNU.sparse.name", "gauge.raw"},
           {"GNU.sparse.realsize", std::to_string(kSize)}});
  tar.add({.name = "GNUSparseFile.0/gauge.raw", .data = to_bytes(map + "tides")});
  Bytes inner = TarBuilder().file("a.txt", "a").build();
  TempFolder folder;
  folder.write("logs.tar.gz",
               encode("gzip", tar.file("plain.txt", "calm\n")
                                  .add({.name = "notes.txt.gz", .data = encode("gzip", to_bytes("n"))})
                                  .add({.name = "old.tgz", .data = encode("gzip", inner)})
                                  .build()));
  View view(folder, "logs.tar.gz");
  if (!view.mounted()) GTEST_SKIP() << "this machine does not let it mount";
  EXPECT_EQ(read_file(view.path() + "/plain.txt"), "calm\n");
  EXPECT_TRUE(std::filesystem::is_regular_file(view.path() + "/notes.txt.gz")) << "a packed document";
  EXPECT_EQ(read_file(view.path() + "/old.tgz/a.txt"), "a");
  Descriptor file(open((view.path() + "/gauge.raw").c_str(), O_RDONLY));
  ASSERT_TRUE(file);
  struct stat status {};
  fstat(file.number(), &status);
  EXPECT_EQ(status.st_size, static_cast<off_t>(kSize));
  EXPECT_LT(status.st_blocks, 8);
  EXPECT_EQ(lseek(file.number(), 0, SEEK_HOLE), 0);
  EXPECT_EQ(lseek(file.number(), 0, SEEK_DATA), static_cast<off_t>(kDataAt));
  EXPECT_EQ(lseek(file.number(), kDataAt + 5, SEEK_DATA), -1);
  char bytes[8] = {};
  EXPECT_EQ(pread(file.number(), bytes, 5, kDataAt), 5);
  EXPECT_STREQ(bytes, "tides");
}

/// Files that are read one behind the other are given to the kernel before it asks for them.
TEST(Mount, ManySmallFilesAreReadInAnyOrder) {
  if (access("/dev/fuse", R_OK | W_OK) != 0) GTEST_SKIP() << "/dev/fuse cannot be used here";
  std::map<std::string, std::string> files;
  TarBuilder tar;
  for (int i = 0; i < 300; ++i) {
    std::string name = fmt::format("f{}/n{}.txt", i / 100, i * 7 % 300);
    std::string text;
    for (int line = 0; line < i % 13; ++line) text += fmt::format("reading {} of {}\n", line, name);
    tar.file(name, text);
    files[name] = text;
  }
  TempFolder folder;
  folder.write("readings.tar.gz", encode("gzip", tar.build()));
  View view(folder, "readings.tar.gz");
  if (!view.mounted()) GTEST_SKIP() << "this machine does not let it mount";
  std::map<std::string, std::string> found;
  for (const auto& one : std::filesystem::recursive_directory_iterator(view.path())) {
    if (!one.is_regular_file()) continue;
    std::string name = std::filesystem::relative(one.path(), view.path());
    found[name] = read_file(one.path());
    EXPECT_EQ(one.file_size(), files[name].size()) << name;
  }
  EXPECT_EQ(found, files);
  for (int i : {299, 0, 150, 1}) {
    std::string name = fmt::format("f{}/n{}.txt", i / 100, i * 7 % 300);
    EXPECT_EQ(read_file(view.path() + "/" + name), files[name]);
  }
  std::string copy = fmt::format("cp -r {} {}", view.path(), folder.path("copy"));
  ASSERT_EQ(std::system(copy.c_str()), 0);
  for (const auto& [name, text] : files) EXPECT_EQ(folder.read("copy/" + name), text);
}

/// Whoever serves a view that was taken away may end after the next one is there.
TEST(Mount, LeavesTheNextViewInTheSameFolderAlone) {
  if (access("/dev/fuse", R_OK | W_OK) != 0) GTEST_SKIP() << "/dev/fuse cannot be used here";
  TempFolder folder;
  folder.write("a.zip", ByteView(ZipBuilder().add("a.txt", "first").build()));
  folder.write("b.zip", ByteView(ZipBuilder().add("b.txt", "second").build()));
  prctl(PR_SET_CHILD_SUBREAPER, 1);  // so the deputy's end can be waited for
  View first(folder, "a.zip");
  if (!first.mounted()) GTEST_SKIP() << "this machine does not let it mount";
  first.pause();
  ASSERT_EQ(umount2(first.path().c_str(), 0), 0);
  View second(folder, "b.zip");
  ASSERT_TRUE(second.mounted());
  first.go_on();
  EXPECT_EQ(WEXITSTATUS(first.wait_for_end()), 0);
  waitpid(-1, nullptr, 0);
  prctl(PR_SET_CHILD_SUBREAPER, 0);
  EXPECT_EQ(read_file(second.path() + "/b.txt"), "second");
}

TEST(Mount, RefusesAFolderThatIsNotEmpty) {
  TempFolder folder;
  folder.write("a.zip", ByteView(ZipBuilder().add("x", "y").build()));
  folder.write("full/file", "z");
  Ran refused = operculum({"mount", "a.zip", "full"}, folder.path());
  EXPECT_EQ(refused.exit_code, 3);
  EXPECT_NE(refused.err.find("full is not empty"), std::string::npos) << refused.err;
}

}  // namespace
}  // namespace operculum

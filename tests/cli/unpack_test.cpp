// Unpacking as a person meets it: what is theirs stays as it is, and a step can be taken back.
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <fstream>

#include "support/byte_writer.h"
#include "support/has.h"
#include "support/json.h"
#include "support/program.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

struct Unpack : testing::Test {
  TempFolder folder;
  Ran run(const std::vector<std::string>& words) { return operculum(words, folder.path()); }
  mode_t mode_of(const std::string& name) {
    struct stat status {};
    return lstat(folder.path(name).c_str(), &status) == 0 ? status.st_mode & 07777 : 0;
  }
};

TEST_F(Unpack, ExistingFoldersKeepTheirModeAndTime) {
  folder.write("m.tar", TarBuilder()
                            .add({.name = "./", .data = {}, .typeflag = '5', .mode = 07777})
                            .add({.name = "keep/", .data = {}, .typeflag = '5', .mode = 06777})
                            .add({.name = "new/", .data = {}, .typeflag = '5', .mode = 06777})
                            .add({.name = "f", .data = {}, .mode = 0666})
                            .build());
  std::filesystem::create_directories(folder.path("out/keep"));
  chmod(folder.path("out").c_str(), 0700);
  chmod(folder.path("out/keep").c_str(), 0700);
  mode_t before = umask(022);
  Ran ran = run({"unpack", "m.tar", "--into", "out"});
  Ran exact = run({"unpack", "m.tar", "--into", "exact", "--exact-modes", "--special-modes"});
  umask(before);
  EXPECT_EQ(mode_of("out"), 0700u);
  EXPECT_EQ(mode_of("out/keep"), 0700u);
  EXPECT_EQ(mode_of("out/new"), 0755u) << "the umask holds, and set-id bits are left out";
  EXPECT_EQ(mode_of("out/f"), 0644u);
  EXPECT_TRUE(has(ran.err, "2 files and folders had set-user-id, set-group-id or sticky bits")) << ran.err;
  EXPECT_EQ(mode_of("exact/new"), 06777u);
  EXPECT_EQ(mode_of("exact"), 07777u) << "a folder made here is what the archive says";
  EXPECT_FALSE(has(exact.err, "set-user-id")) << exact.err;
}

TEST_F(Unpack, LinksThatLeadOutTogetherAreLeftOut) {
  folder.write("l.tar", TarBuilder()
                            .folder("a/b/c")
                            .symbolic("a/b/c/L", "../../..")
                            .symbolic("M", "a/b/c/L/../../../etc/passwd")
                            .symbolic("N", "a/b/c/L/..")
                            .build());
  Ran ran = run({"unpack", "l.tar", "--into", "out"});
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_TRUE(folder.has("out/a/b/c/L"));
  EXPECT_FALSE(folder.has("out/M"));
  EXPECT_FALSE(folder.has("out/N"));
}

TEST_F(Unpack, ManyEqualMessagesAreOneLineWithACount) {
  TarBuilder tar;
  for (int i = 0; i < 100; ++i) tar.symbolic("l" + std::to_string(i), "../../x" + std::to_string(i));
  folder.write("l.tar", tar.build());
  Ran ran = run({"unpack", "l.tar", "--into", "out"});
  EXPECT_TRUE(has(ran.err, "97 more of these: lead out of the output folder (--verbose lists them)"))
      << ran.err;
  EXPECT_LT(std::count(ran.err.begin(), ran.err.end(), '\n'), 8);
  Ran all = run({"unpack", "l.tar", "--into", "out2", "--verbose"});
  EXPECT_GT(std::count(all.err.begin(), all.err.end(), '\n'), 99);
}

TEST_F(Unpack, LinksStoredAgainReplaceTheEarlierOnes) {
  folder.write("l.tar", TarBuilder()
                            .symbolic("to", "old")
                            .file("was-file", "x")
                            .symbolic("was-link", "old")
                            .symbolic("to", "new")
                            .symbolic("was-file", "new")
                            .file("was-link", "file now")
                            .build());
  Ran ran = run({"unpack", "l.tar", "--into", "out"});
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(std::filesystem::read_symlink(folder.path("out/to")), "new");
  EXPECT_EQ(std::filesystem::read_symlink(folder.path("out/was-file")), "new");
  EXPECT_EQ(folder.read("out/was-link"), "file now");
}

TEST_F(Unpack, TargetsOfOneContainerShareAFolderAndOthersHaveTheirOwn) {
  folder.write("one.zip", ZipBuilder().add("a/x", "1").add("b/y", "2").build());
  folder.write("two.zip", ZipBuilder().add("z", "3").build());
  std::filesystem::create_directories(folder.path("one"));
  EXPECT_EQ(run({"unpack", "one.zip/a", "one.zip/b"}).exit_code, 0);
  EXPECT_EQ(folder.listing("one~2"), "a/ a/x b/ b/y") << "one is taken";
  EXPECT_EQ(run({"unpack", "one.zip", "two.zip", "--into", "D"}).exit_code, 0);
  EXPECT_EQ(folder.listing("D"), "one/ one/a/ one/a/x one/b/ one/b/y two/ two/z")
      << "what lies beside D does not matter";
}

TEST_F(Unpack, EqualNamesAreNumberedOnward) {
  TarBuilder tar;
  ZipBuilder zip;
  for (int i = 0; i < 300; ++i) zip.add("same.txt", std::to_string(i));
  folder.write("same.zip", zip.build());
  EXPECT_EQ(run({"unpack", "same.zip", "--into", "out"}).exit_code, 0);
  EXPECT_EQ(folder.read("out/same~300.txt"), "299");
}

TEST_F(Unpack, NamesInSmallLetters) {
  folder.write("caps.zip", ZipBuilder().add("README.TXT", "a").add("Readme.txt", "b").build());
  Ran ran = run({"unpack", "caps.zip", "--lower-case", "--into", "out"});
  EXPECT_EQ(folder.listing("out"), "readme.txt readme~2.txt") << ran.err;
}

/// In a tar archive an entry that is stored again replaces the earlier one, but only one of the very same
/// name.
TEST_F(Unpack, NamesThatBecomeEqualAreStillTwoFiles) {
  folder.write("t.tar", TarBuilder()
                            .file("Crab.txt", "large")
                            .file("crab.txt", "small")
                            .file("a:b", "colon")
                            .file("a?b", "question")
                            .file("crab.txt", "small again")
                            .file("./Crab.txt", "large again")
                            .build());
  for (const char* option : {"--portable-names", "--lower-case"}) {
    std::string into = std::string("out") + option;
    Ran ran = operculum({"unpack", "t.tar", "--into", into, option}, folder.path());
    EXPECT_EQ(ran.exit_code, 0) << ran.err;
    bool small = std::string(option) == "--lower-case";
    EXPECT_EQ(folder.read(into + (small ? "/crab.txt" : "/Crab.txt")), "large again") << ran.err;
    EXPECT_EQ(folder.read(into + "/crab~2.txt"), "small again");
    if (small) continue;
    EXPECT_EQ(folder.read(into + "/a_b"), "colon");
    EXPECT_EQ(folder.read(into + "/a_b~2"), "question");
  }
}

TEST_F(Unpack, ReceiptsAreBoundToTheirFolder) {
  folder.write("victim/precious", "precious");
  std::ofstream(folder.path("r.json"))
      << R"({"kind":"operculum receipt","version":2,"source":"x","folder":")" << folder.path("victim")
      << R"(","complete":true,"written":[{"path":"precious","kind":"file","size":8,)"
      << R"("sha256":"0000000000000000000000000000000000000000000000000000000000000000"}]})";
  Ran refused = run({"discard", "r.json"});
  EXPECT_EQ(refused.exit_code, 3);
  EXPECT_TRUE(has(refused.err, "does not belong to the folder")) << refused.err;
  EXPECT_EQ(folder.read("victim/precious"), "precious");
  std::ofstream(folder.path("d.json")) << R"({"kind":"operculum receipt","version":2,"source":"x","folder":")"
                                       << folder.path("made/here") << R"(","complete":true,"written":[]})";
  EXPECT_EQ(run({"discard", "--dry-run", "d.json"}).exit_code, 3);
  EXPECT_FALSE(folder.has("made")) << "a trial run makes nothing";
}

TEST_F(Unpack, DiscardComparesLinksAndHardLinks) {
  folder.write("l.tar", TarBuilder()
                            .file("f", "text")
                            .symbolic("s", "f")
                            .symbolic("t", "f")
                            .hard("h", "f")
                            .hard("g", "f")
                            .build());
  EXPECT_EQ(run({"unpack", "l.tar", "--into", "out", "--receipt", "r.json"}).exit_code, 0);
  std::filesystem::remove(folder.path("out/t"));
  std::filesystem::create_symlink("elsewhere", folder.path("out/t"));
  std::filesystem::remove(folder.path("out/g"));
  folder.write("out/g", "mine now");
  Ran ran = run({"discard", "r.json"});
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_TRUE(has(ran.out, "t: it was changed since, so it stays")) << ran.out;
  EXPECT_EQ(folder.read("out/g"), "mine now");
  EXPECT_FALSE(folder.has("out/f"));
  EXPECT_FALSE(folder.has("out/h"));
  EXPECT_FALSE(folder.has("out/s"));
}

TEST_F(Unpack, WhatWasReplacedComesBack) {
  folder.write("new.zip", ZipBuilder().add("settings.txt", "new").build());
  folder.write("out/settings.txt", "mine");
  EXPECT_EQ(
      run({"unpack", "new.zip", "--into", "out", "--existing", "replace", "--receipt", "r.json"}).exit_code,
      0);
  EXPECT_EQ(folder.read("out/settings.txt"), "new");
  Ran ran = run({"discard", "r.json"});
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(has(ran.out, "1 that had been replaced is back")) << ran.out;
  EXPECT_EQ(folder.listing("out"), "settings.txt");
  EXPECT_EQ(folder.read("out/settings.txt"), "mine");
}

TEST_F(Unpack, DiscardOfNothingIsNoSuccess) {
  folder.write("a.zip", ZipBuilder().add("x", "1").build());
  run({"unpack", "a.zip", "--into", "out", "--receipt", "r.json"});
  std::filesystem::remove(folder.path("out/x"));
  EXPECT_EQ(run({"discard", "r.json"}).exit_code, 1);
}

TEST_F(Unpack, HolesAreNoBomb) {
  Bytes tail;
  // GNU's old form: one extent of 4 bytes at 60 GB; 345 + 41 is where the map begins.
  ByteWriter map;
  map.zeros(41).text("00700000000000000000" + std::string(0, ' '));
  auto octal = [](std::uint64_t value) {
    std::string digits(11, '0');
    for (int i = 10; i >= 0; --i, value /= 8)
      digits[static_cast<std::size_t>(i)] = static_cast<char>('0' + value % 8);
    return digits + '\0';
  };
  constexpr std::uint64_t kSize = std::uint64_t{4} << 30;
  ByteWriter fields;
  fields.zeros(41).text(octal(kSize - 4)).text(octal(4)).zeros(3 * 24).zeros(1).text(octal(kSize));
  ByteWriter archive;
  archive.bytes(TarBuilder::header({.name = "hole.img", .typeflag = 'S'}, 4, TarStyle::gnu, fields.view()));
  archive.text("tide").align(512).zeros(1024);
  folder.write("hole.tar", archive.view());
  Ran ran = run({"unpack", "hole.tar", "--into", "out"});
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  struct stat status {};
  ASSERT_EQ(stat(folder.path("out/hole.img").c_str(), &status), 0);
  EXPECT_EQ(static_cast<std::uint64_t>(status.st_size), kSize);
  EXPECT_LT(status.st_blocks, 100) << "the hole stays one";
  EXPECT_EQ(run({"verify", "hole.tar"}).exit_code, 0);
}

TEST_F(Unpack, EntriesMayHavePasswordsOfTheirOwn) {
  ZipBuilder zip;
  zip.add({.name = "a", .data = to_bytes(std::string(500, 'a')), .password = "limpet"});
  zip.add({.name = "b", .data = to_bytes(std::string(500, 'b')), .password = "whelk"});
  zip.add({.name = "c", .data = to_bytes(std::string(500, 'c')), .password = "crab", .aes_strength = 3});
  folder.write("keys.zip", zip.build());
  folder.write(
      "config/operculum/keys.toml",
      "[[key]]\npassword = \"whelk\"\n[[key]]\npassword = \"crab\"\n[[key]]\npassword = \"limpet\"\n");
  Ran ran = operculum({"verify", "keys.zip"}, folder.path(), {{"XDG_CONFIG_HOME", folder.path("config")}});
  EXPECT_EQ(ran.exit_code, 0) << ran.out;
  EXPECT_TRUE(has(ran.out, "3 files decoded (1.5 KiB); every one of these has a checksum, and it is right"))
      << ran.out;
}

TEST_F(Unpack, KeepsWhatIsPackedAsItLies) {
  folder.write("gull.layout", R"(layout "Gull box"
suffix .gull
record Head {
  magic bytes "GULL"
}
record Row {
  at   u32
  size u32
  full u32
}
head = Head at 0
rows = Row[2] at 4
entry for row number i in rows {
  path = "call-{i}"
  data = bytes(row.at, row.size) | when i == 1: missing("Crumb 2")
  size = row.full
}
)");
  ByteWriter box;
  box.text("GULL").u32(28).u32(5).u32(5).u32(33).u32(4).u32(99).text("hellowxyz");
  folder.write("box.gull", as_text(box.view()));
  auto unpack = [&](std::vector<std::string> more) {
    std::vector<std::string> all = {"unpack", "--layout", "gull.layout"};
    all.insert(all.end(), more.begin(), more.end());
    return operculum(all, folder.path());
  };
  Ran plain = unpack({"box.gull", "--into", "a"});
  EXPECT_EQ(plain.exit_code, 1);
  EXPECT_TRUE(has(plain.err, "Unsupported: the codec Crumb 2")) << plain.err;
  EXPECT_EQ(folder.read("a/call-0"), "hello");
  Ran packed = unpack({"box.gull", "--into", "b", "--keep-packed"});
  EXPECT_EQ(packed.exit_code, 0) << packed.err;
  EXPECT_EQ(folder.read("b/call-0"), "hello");
  EXPECT_EQ(folder.read("b/call-1"), "wxyz");
  EXPECT_EQ(unpack({"box.gull/call-1", "--into", "c", "--keep-packed"}).exit_code, 0);
  EXPECT_EQ(folder.read("c/call-1"), "wxyz");
  std::string text(4000, 'x');
  folder.write("logs.zip", as_text(ZipBuilder().add("tide.log", text).build()));
  EXPECT_EQ(operculum({"unpack", "logs.zip", "--into", "d", "--keep-packed"}, folder.path()).exit_code, 0);
  EXPECT_LT(folder.read("d/tide.log").size(), 100u);  // deflated
}

}  // namespace
}  // namespace operculum::test

// rebuild, edit and pack, as a person calls them.
#include <gtest/gtest.h>
#include <signal.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include "codec/codec.h"
#include "support/byte_writer.h"
#include "support/has.h"
#include "support/hfs_writer.h"
#include "support/program.h"
#include "support/sample_tree.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

Bytes skin() {
  return ZipBuilder()
      .folder("textures")
      .add("textures/crab.txt", "red crab")
      .add("textures/limpet.txt", "grey limpet")
      .add("scripts/tide.lua", "tide = 1")
      .build();
}

/// skin in kiosk.zip in exhibit.tar.xz.
Bytes exhibit() {
  Bytes kiosk = ZipBuilder().stored("packs/tidepool.skin", skin()).add("kiosk.ini", "mode=demo").build();
  return encode(
      "xz",
      TarBuilder().folder("opt").add({.name = "opt/kiosk.zip", .data = kiosk}).file("opt/run", "go").build());
}

TEST(Rebuild, TellsEachEntrysFateAndKeepsTheOriginal) {
  TempFolder folder;
  folder.write("tidepool.skin", skin());
  folder.write("new.txt", "blue crab");
  Ran ran = operculum(
      {"rebuild", "tidepool.skin", "--set", "textures/crab.txt=new.txt", "--add", "more/new.txt=new.txt",
       "--remove", "scripts", "--rename", "textures/limpet.txt=textures/snail.txt", "--into", "made.skin"},
      folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(has(ran.out, "textures/crab.txt: changed, 8 B to 9 B\n")) << ran.out;
  EXPECT_TRUE(has(ran.out, "more/new.txt: added, 9 B\n"));
  EXPECT_TRUE(has(ran.out, "scripts/tide.lua: removed\n"));
  EXPECT_TRUE(has(ran.out, "textures/limpet.txt: renamed to textures/snail.txt\n"));
  EXPECT_TRUE(has(ran.out, "made.skin: written, "));
  EXPECT_EQ(to_bytes(folder.read("tidepool.skin")), skin());
  EXPECT_EQ(operculum({"show", "made.skin/textures/crab.txt"}, folder.path()).out, "blue crab");
  EXPECT_EQ(operculum({"verify", "made.skin"}, folder.path()).exit_code, 0);
  EXPECT_EQ(folder.listing(), "made.skin new.txt tidepool.skin");
}

TEST(Rebuild, GoesThroughContainersInContainersAndCanBeTakenBack) {
  TempFolder folder;
  folder.write("exhibit.tar.xz", exhibit());
  folder.write("tide.lua", "tide = 2");
  std::string target = "exhibit.tar.xz/opt/kiosk.zip/packs/tidepool.skin";
  Ran ran = operculum(
      {"rebuild", target, "--set", "scripts/tide.lua=tide.lua", "--in-place", "--receipt", "r.json"},
      folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(has(ran.out, "exhibit.tar.xz.before: the original\n")) << ran.out;
  EXPECT_EQ(operculum({"show", target + "/scripts/tide.lua"}, folder.path()).out, "tide = 2");
  EXPECT_EQ(operculum({"show", target + "/textures/crab.txt"}, folder.path()).out, "red crab");
  EXPECT_EQ(operculum({"verify", "--deep", "exhibit.tar.xz"}, folder.path()).exit_code, 0);
  EXPECT_EQ(to_bytes(folder.read("exhibit.tar.xz.before")), exhibit());
  EXPECT_EQ(operculum({"discard", "r.json"}, folder.path()).exit_code, 0);
  EXPECT_EQ(to_bytes(folder.read("exhibit.tar.xz")), exhibit());
  EXPECT_FALSE(folder.has("exhibit.tar.xz.before"));
}

TEST(Rebuild, IsNotTakenBackWhenTheFileWasChangedSince) {
  TempFolder folder;
  folder.write("a.zip", skin());
  folder.write("n", "new");
  ASSERT_EQ(
      operculum({"rebuild", "a.zip", "--set", "scripts/tide.lua=n", "--in-place", "--receipt", "r.json"},
                folder.path())
          .exit_code,
      0);
  std::string made = folder.read("a.zip");
  folder.write("a.zip", made + "x");
  EXPECT_EQ(operculum({"discard", "r.json"}, folder.path()).exit_code, 1);
  EXPECT_EQ(folder.read("a.zip"), made + "x");
  EXPECT_EQ(to_bytes(folder.read("a.zip.before")), skin());
}

TEST(Rebuild, WritesNothingInATrialRunOrWhenNothingDiffers) {
  TempFolder folder;
  folder.write("a.zip", skin());
  folder.write("n", "new");
  Ran dry = operculum({"rebuild", "a.zip", "--set", "scripts/tide.lua=n", "--dry-run"}, folder.path());
  EXPECT_EQ(dry.exit_code, 0) << dry.err;
  EXPECT_TRUE(has(dry.out, "a.zip: would become ")) << dry.out;
  EXPECT_EQ(operculum({"unpack", "a.zip", "--into", "out"}, folder.path()).exit_code, 0);
  Ran same = operculum({"rebuild", "a.zip", "--from", "out", "--mirror", "--in-place"}, folder.path());
  EXPECT_EQ(same.out, "a.zip: nothing differs, so nothing was written\n") << same.err;
  EXPECT_EQ(to_bytes(folder.read("a.zip")), skin());
  EXPECT_FALSE(folder.has("a.zip.before"));
}

TEST(Rebuild, TakesWhatDiffersInAFolder) {
  TempFolder folder;
  folder.write("a.zip", skin());
  ASSERT_EQ(operculum({"unpack", "a.zip", "--into", "out"}, folder.path()).exit_code, 0);
  folder.write("out/textures/crab.txt", "blue crab");
  folder.write("out/textures/whelk.txt", "whelk");
  std::filesystem::remove(folder.path("out/textures/limpet.txt"));
  Ran kept = operculum({"rebuild", "a.zip", "--from", "out", "--into", "b.zip", "--json"}, folder.path());
  EXPECT_TRUE(has(kept.out, R"("record":"changed","path":"textures/crab.txt")")) << kept.out;
  EXPECT_TRUE(has(kept.out, R"("record":"added","path":"textures/whelk.txt")"));
  EXPECT_FALSE(has(kept.out, "removed"));
  Ran mirrored =
      operculum({"rebuild", "a.zip", "--from", "out", "--mirror", "--into", "c.zip"}, folder.path());
  EXPECT_TRUE(has(mirrored.out, "textures/limpet.txt: removed\n")) << mirrored.out;
  Ran inside =
      operculum({"rebuild", "a.zip/textures", "--from", "out/textures", "--into", "d.zip"}, folder.path());
  EXPECT_TRUE(has(inside.out, "textures/whelk.txt: added")) << inside.out << inside.err;
}

TEST(Rebuild, SaysWhatIsWrongWithWhatWasAsked) {
  TempFolder folder;
  folder.write("a.zip", skin());
  folder.write("n", "new");
  auto said = [&](std::vector<std::string> words) {
    words.insert(words.begin(), {"rebuild", "a.zip"});
    words.insert(words.end(), {"--into", "b.zip"});
    Ran ran = operculum(words, folder.path());
    EXPECT_NE(ran.exit_code, 0);
    EXPECT_FALSE(folder.has("b.zip"));
    return ran.err;
  };
  EXPECT_TRUE(has(said({"--set", "crab.txt=n"}),
                  "there is no entry \"crab.txt\"; did you mean \"textures/crab.txt\"?"));
  EXPECT_TRUE(has(said({"--set", "nothing=n"}), "--add puts a new one in"));
  EXPECT_TRUE(has(said({"--set", "textures=n"}), "would become a file"));
  EXPECT_TRUE(has(said({"--add", "scripts/tide.lua=n"}), "is there already; --set gives it a new content"));
  EXPECT_TRUE(
      has(said({"--rename", "scripts/tide.lua=textures/crab.txt"}), "is there already; remove it first"));
  EXPECT_TRUE(has(said({"--set", "scripts/tide.lua=missing"}), "No such file"));
  EXPECT_TRUE(has(said({"--set", "scripts/tide.lua"}), "--set: expected PATH=FILE"));
  EXPECT_TRUE(has(said({"--set", "scripts/tide.lua=n", "--set", "scripts/tide.lua=n"}), "is set twice"));
  EXPECT_TRUE(has(operculum({"rebuild", "a.zip", "--remove", "scripts"}, folder.path()).err,
                  "say where the result goes"));
  EXPECT_TRUE(
      has(operculum({"rebuild", "n", "--remove", "x", "--into", "b"}, folder.path()).err, "no container"));
  folder.write("b.zip", "mine");
  EXPECT_TRUE(
      has(operculum({"rebuild", "a.zip", "--remove", "scripts", "--into", "b.zip"}, folder.path()).err,
          "choose a new name"));
  EXPECT_EQ(folder.read("b.zip"), "mine");
}

TEST(Rebuild, NeedsTheKeyThatReadingNeeds) {
  TempFolder folder;
  folder.write("keys.zip",
               ZipBuilder()
                   .add({.name = "k.txt", .data = to_bytes("high"), .password = "limpet", .aes_strength = 3})
                   .build());
  folder.write("n", "new");
  Ran wrong = operculum({"rebuild", "keys.zip", "--set", "k.txt=n", "--into", "b.zip"}, folder.path(),
                        {{"OPERCULUM_PASSWORD", "whelk"}});
  EXPECT_EQ(wrong.exit_code, 4) << wrong.err;
  EXPECT_FALSE(folder.has("b.zip"));
  Ran right = operculum({"rebuild", "keys.zip", "--set", "k.txt=n", "--into", "b.zip"}, folder.path(),
                        {{"OPERCULUM_PASSWORD", "limpet"}});
  EXPECT_EQ(right.exit_code, 0) << right.err;
  EXPECT_EQ(operculum({"show", "b.zip/k.txt"}, folder.path(), {{"OPERCULUM_PASSWORD", "limpet"}}).out, "new");
}

TEST(Rebuild, PutsAFileOfTheSameSizeIntoWhatIsNotWrittenOtherwise) {
  if (!on_path("mkfs.ext4")) GTEST_SKIP() << "this machine has no mkfs.ext4";
  TempFolder folder;
  folder.write("in/etc/hostname", "pier-kiosk\n");
  ASSERT_EQ(
      run("sh", {"-c", "truncate -s 2M disk.img && mkfs.ext4 -q -d in disk.img"}, folder.path()).exit_code,
      0);
  folder.write("same", "quay-kiosk\n");
  folder.write("longer", "quay-kiosk-two\n");
  Ran ran =
      operculum({"rebuild", "disk.img", "--set", "etc/hostname=same", "--into", "new.img"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(operculum({"show", "new.img/etc/hostname"}, folder.path()).out, "quay-kiosk\n");
  EXPECT_EQ(run("e2fsck", {"-fn", "new.img"}, folder.path()).exit_code, 0);
  folder.write("hfs.img", ByteView(make_hfs({{.path = "hostname", .data = to_bytes("pier-kiosk\n")}})));
  ran = operculum({"rebuild", "hfs.img", "--set", "hostname=same", "--into", "hfs-new.img"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(operculum({"show", "hfs-new.img/hostname"}, folder.path()).out, "quay-kiosk\n");
  Ran longer =
      operculum({"rebuild", "hfs.img", "--set", "hostname=longer", "--into", "b.img"}, folder.path());
  EXPECT_EQ(longer.exit_code, 3) << longer.err;
  EXPECT_TRUE(has(longer.err, "\"hostname\" has 11 bytes, the new one 15")) << longer.err;
}

TEST(Rebuild, ChangesFilesOfADiskInAnImageWithSnapshots) {
  if (!on_path("qemu-img") || !on_path("mkfs.fat"))
    GTEST_SKIP() << "this machine has no qemu-img or mkfs.fat";
  TempFolder folder;
  folder.write("first.txt", "low water\n");
  folder.write("second.txt", std::string(300'000, 's') + "\n");
  run("mkfs.fat", {"-C", "raw", "4096"}, folder.path());
  ASSERT_EQ(operculum({"rebuild", "raw", "--add", "log/tide.txt=first.txt", "--into", "disk"}, folder.path())
                .exit_code,
            0);
  for (std::vector<std::string> how :
       {std::vector<std::string>{"-o", "cluster_size=4096"}, {"-c"}, {"-o", "compat=0.10"}, {}}) {
    std::vector<std::string> make = {"convert", "-f", "raw", "-O", "qcow2"};
    make.insert(make.end(), how.begin(), how.end());
    make.insert(make.end(), {"disk", "disk.qcow2"});
    ASSERT_EQ(run("qemu-img", make, folder.path()).exit_code, 0);
    ASSERT_EQ(run("qemu-img", {"snapshot", "-c", "before", "disk.qcow2"}, folder.path()).exit_code, 0);
    Ran ran = operculum({"rebuild", "disk.qcow2", "--set", "log/tide.txt=second.txt", "--add",
                         "new/note.txt=first.txt", "--into", "new.qcow2"},
                        folder.path());
    ASSERT_EQ(ran.exit_code, 0) << ran.err;
    Ran checked = run("qemu-img", {"check", "new.qcow2"}, folder.path());
    EXPECT_EQ(checked.exit_code, 0) << checked.out << checked.err;
    EXPECT_EQ(operculum({"show", "new.qcow2/log/tide.txt"}, folder.path()).out, folder.read("second.txt"));
    EXPECT_EQ(operculum({"show", "new.qcow2/new/note.txt"}, folder.path()).out, "low water\n");
    ASSERT_EQ(run("qemu-img", {"snapshot", "-a", "before", "new.qcow2"}, folder.path()).exit_code, 0);
    EXPECT_EQ(run("qemu-img", {"compare", "disk", "new.qcow2"}, folder.path()).exit_code, 0);
    run("rm", {"disk.qcow2", "new.qcow2"}, folder.path());
  }
}

void write_package_tree(const TempFolder& folder) {
  folder.write("p/DEBIAN/control",
               "Package: chart\nVersion: 1\nArchitecture: all\nMaintainer: Museum "
               "<m@example.org>\nDescription: chart\n");
  folder.write("p/opt/chart/run.sh", "echo one\n");
}

TEST(Rebuild, BringsThePackagesSumsUpToDateWhenAsked) {
  if (!on_path("dpkg-deb")) GTEST_SKIP() << "this machine has no dpkg-deb";
  TempFolder folder;
  write_package_tree(folder);
  folder.write("p/opt/chart/old.txt", "old\n");
  folder.write("p/opt/chart/same.txt", "same\n");
  run("sh", {"-c", "cd p && md5sum opt/chart/* > DEBIAN/md5sums"}, folder.path());
  ASSERT_EQ(run("dpkg-deb", {"--root-owner-group", "-b", "p", "chart.deb"}, folder.path()).exit_code, 0);
  folder.write("n", "echo two and more\n");
  std::vector<std::string> arguments = {"rebuild",  "chart.deb/data.tar.xz", "--set", "opt/chart/run.sh=n",
                                        "--remove", "opt/chart/old.txt",     "--add", "opt/chart/new.sh=n"};
  std::vector<std::string> plain = arguments, updated = arguments;
  plain.insert(plain.end(), {"--into", "plain.deb"});
  updated.insert(updated.end(), {"--into", "new.deb", "--update-sums"});
  Ran told = operculum(plain, folder.path());
  EXPECT_TRUE(has(told.out, "md5sums still tell of what was there; --update-sums sets them")) << told.out;
  Ran ran = operculum(updated, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  Ran sums = run(
      "sh",
      {"-c",
       "dpkg-deb -R new.deb out && cd out && md5sum -c --quiet DEBIAN/md5sums && sort -k 2 DEBIAN/md5sums"},
      folder.path());
  EXPECT_EQ(sums.exit_code, 0) << sums.out << sums.err;
  for (const char* path : {"  opt/chart/new.sh\n", "  opt/chart/run.sh\n", "  opt/chart/same.txt\n"})
    EXPECT_TRUE(has(sums.out, path)) << sums.out;
  EXPECT_FALSE(has(sums.out, "old.txt")) << sums.out;
  folder.write("a.txt", "a");
  ASSERT_EQ(operculum({"pack", "a.txt", "--as", "zip", "--into", "a.zip"}, folder.path()).exit_code, 0);
  Ran none =
      operculum({"rebuild", "a.zip", "--set", "a.txt=n", "--into", "b.zip", "--update-sums"}, folder.path());
  EXPECT_EQ(none.exit_code, 3) << none.err;
}

TEST(Rebuild, ChangesADebianPackageThatItsManagerReads) {
  if (!on_path("dpkg-deb")) GTEST_SKIP() << "this machine has no dpkg-deb";
  TempFolder folder;
  write_package_tree(folder);
  ASSERT_EQ(run("dpkg-deb", {"--root-owner-group", "-b", "p", "chart.deb"}, folder.path()).exit_code, 0);
  folder.write("n", "echo two and more\n");
  Ran ran =
      operculum({"rebuild", "chart.deb/data.tar.xz", "--set", "opt/chart/run.sh=n", "--into", "new.deb"},
                folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(
      run("sh", {"-c", "dpkg-deb --fsys-tarfile new.deb | tar -xO ./opt/chart/run.sh"}, folder.path()).out,
      "echo two and more\n");
  Ran shown =
      operculum({"rebuild", "chart.deb", "--set", "opt/chart/run.sh=n", "--into", "x.deb"}, folder.path());
  EXPECT_NE(shown.exit_code, 0);
  EXPECT_TRUE(has(shown.err, "name the member that holds it")) << shown.err;
  EXPECT_TRUE(has(shown.err, "data.tar.xz")) << shown.err;
}

/// Ended at any moment it leaves the original and nothing under a final name.
TEST(Rebuild, LeavesTheOriginalAloneWhenItIsKilled) {
  TempFolder folder;
  ZipBuilder builder;
  for (unsigned i = 0; i < 15; ++i) builder.stored("n" + std::to_string(i), noise(40'000, i));
  Bytes before = builder.build();
  folder.write("a.zip", before);
  folder.write("new", noise(200'000, 99));
  std::string program = std::getenv("OPERCULUM");
  for (int moment = 0; moment < 50; ++moment) {
    pid_t child = fork();
    ASSERT_GE(child, 0);
    if (child == 0) {
      if (chdir(folder.path().c_str()) != 0) _exit(99);
      execl(program.c_str(), "operculum", "rebuild", "a.zip", "--set", "n7=new", "--in-place", "--quiet",
            nullptr);
      _exit(98);
    }
    usleep(static_cast<useconds_t>(moment) * 6000);
    kill(child, SIGKILL);
    int status = 0;
    waitpid(child, &status, 0);
    std::string now = folder.read("a.zip");
    if (to_bytes(now) != before) {  // it had ended in time
      EXPECT_EQ(operculum({"verify", "a.zip"}, folder.path()).exit_code, 0);
      EXPECT_EQ(to_bytes(folder.read("a.zip.before")), before);
      std::filesystem::rename(folder.path("a.zip.before"), folder.path("a.zip"));
    }
    std::filesystem::remove(folder.path("a.zip.before"));  // a second name of the original, if anything
    for (const auto& left : std::filesystem::directory_iterator(folder.path())) {
      std::string name = left.path().filename();
      EXPECT_TRUE(name == "a.zip" || name == "new") << name;
    }
  }
}

TEST(Edit, PutsAnEntryBackWhenTheEditorChangedIt) {
  TempFolder folder;
  folder.write("exhibit.tar.xz", exhibit());
  folder.write("editor.sh", "#!/bin/sh\nprintf ' -- seen' >> \"$1\"\n");
  std::filesystem::permissions(folder.path("editor.sh"), std::filesystem::perms::owner_all);
  std::string target = "exhibit.tar.xz/opt/kiosk.zip/packs/tidepool.skin/scripts/tide.lua";
  Ran ran = operculum({"edit", target}, folder.path(), {{"VISUAL", folder.path("editor.sh")}});
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(operculum({"show", target}, folder.path()).out, "tide = 1 -- seen");
  std::string made = folder.read("exhibit.tar.xz");
  Ran same = operculum({"edit", target}, folder.path(), {{"VISUAL", "true"}});
  EXPECT_TRUE(has(same.err, "not changed, so nothing is written")) << same.err;
  EXPECT_EQ(folder.read("exhibit.tar.xz"), made);
  Ran failed = operculum({"edit", target}, folder.path(), {{"VISUAL", "false"}});
  EXPECT_NE(failed.exit_code, 0);
  EXPECT_TRUE(has(failed.err, "the editor \"false\" ended with a failure")) << failed.err;
  EXPECT_EQ(folder.read("exhibit.tar.xz"), made);
  EXPECT_NE(operculum({"edit", "exhibit.tar.xz/opt"}, folder.path(), {{"VISUAL", "true"}}).exit_code, 0);
}

TEST(Pack, MakesASmallPackOfWhatDiffers) {
  TempFolder folder;
  folder.write("tidepool.skin", skin());
  ASSERT_EQ(operculum({"unpack", "tidepool.skin", "--into", "out"}, folder.path()).exit_code, 0);
  folder.write("out/textures/crab.txt", "blue crab");
  folder.write("packs/a.skin", "x");
  folder.write("packs/m.skin", "x");
  Ran ran = operculum({"pack", "out", "--like", "tidepool.skin", "--changed-only", "--into", "blue.skin",
                       "--first-among", "packs"},
                      folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_TRUE(has(ran.err, "packs/0-blue.skin: it sorts in front of \"a.skin\", the first there")) << ran.err;
  EXPECT_EQ(operculum({"list", "--paths", "packs/0-blue.skin"}, folder.path()).out,
            "textures\ntextures/crab.txt\n");
  EXPECT_EQ(operculum({"show", "packs/0-blue.skin/textures/crab.txt"}, folder.path()).out, "blue crab");
  EXPECT_FALSE(has(ran.out, "removed")) << ran.out;
  Ran part = operculum({"pack", "out/textures", "--like", "tidepool.skin/textures", "--into", "part.skin"},
                       folder.path());
  EXPECT_EQ(part.exit_code, 0) << part.err;
  EXPECT_EQ(operculum({"list", "--paths", "part.skin"}, folder.path()).out,
            "textures\ntextures/crab.txt\ntextures/limpet.txt\n");
  Ran last =
      operculum({"pack", "out", "--like", "tidepool.skin", "--into", "blue.skin", "--last-among", "packs"},
                folder.path());
  EXPECT_TRUE(has(last.err, "packs/z-blue.skin: it sorts behind \"m.skin\"")) << last.err;
}

TEST(Pack, MakesContainersFromScratchTheSameEachTime) {
  TempFolder folder;
  folder.write("logs/2026/march.txt", std::string(5000, 'h'));
  folder.write("logs/april.txt", "low");
  std::filesystem::create_symlink("april.txt", folder.path("logs/latest"));
  for (const char* form : {"zip", "tar", "cpio", "tar.xz", "tar.zst", "tgz", "tar.bz2", "tar.lz4"}) {
    std::string one = std::string("one.") + form, two = std::string("two.") + form;
    Ran ran = operculum({"pack", "logs", "--as", form, "--into", one}, folder.path());
    EXPECT_EQ(ran.exit_code, 0) << form << ran.err;
    EXPECT_EQ(operculum({"pack", "logs", "--as", form, "--into", two}, folder.path()).exit_code, 0);
    EXPECT_EQ(folder.read(one), folder.read(two)) << form;
    EXPECT_EQ(operculum({"list", "--paths", one}, folder.path()).out,
              "2026\n2026/march.txt\napril.txt\nlatest\n")
        << form;
    EXPECT_EQ(operculum({"show", one + "/2026/march.txt"}, folder.path()).out, std::string(5000, 'h'))
        << form;
    EXPECT_EQ(operculum({"verify", one}, folder.path()).exit_code, 0) << form;
  }
  EXPECT_EQ(run("tar", {"-tf", "one.tar.xz"}, folder.path()).out,
            "2026/\n2026/march.txt\napril.txt\nlatest\n");
  Ran refused = operculum({"pack", "logs", "--as", "wim", "--into", "x"}, folder.path());
  EXPECT_EQ(refused.exit_code, 3);
  EXPECT_TRUE(
      has(refused.err, "what can be made: qcow2, vhd, squashfs, fat, iso9660, zip, tar, cpio, cab, cfb, ar"))
      << refused.err;
  Ran single = operculum({"pack", "logs", "--as", "xz", "--into", "x"}, folder.path());
  EXPECT_TRUE(has(single.err, "a tar archive can hold it")) << single.err;
}

TEST(Pack, TakesTimesFromSourceDateEpoch) {
  TempFolder folder;
  folder.write("logs/a", "a");
  ASSERT_EQ(operculum({"pack", "logs", "--as", "tar", "--into", "a.tar"}, folder.path(),
                      {{"SOURCE_DATE_EPOCH", "86400"}})
                .exit_code,
            0);
  EXPECT_TRUE(has(operculum({"list", "a.tar"}, folder.path()).out, "1970-01-02 00:00"))
      << operculum({"list", "a.tar"}, folder.path()).out;
}

TEST(Convert, KeepsContentsTimesAndModes) {
  TempFolder folder;
  folder.write("exhibit.tar.xz", exhibit());
  for (const char* form : {"zip", "tar", "cpio", "tar.zst"}) {
    std::string made = std::string("made.") + form;
    Ran ran = operculum({"convert", "exhibit.tar.xz", "--as", form, "--into", made}, folder.path());
    EXPECT_EQ(ran.exit_code, 0) << form << ran.err;
    EXPECT_EQ(operculum({"list", "--paths", made}, folder.path()).out, "opt\nopt/kiosk.zip\nopt/run\n")
        << form;
    EXPECT_EQ(operculum({"show", made + "/opt/run"}, folder.path()).out, "go") << form;
    EXPECT_TRUE(has(operculum({"list", "--long", made}, folder.path()).out, "2026-03-01 14:05:08")) << form;
    EXPECT_EQ(operculum({"verify", "--deep", made}, folder.path()).exit_code, 0) << form;
  }
  EXPECT_EQ(folder.read("made.tar"),
            run("xz", {"-dc", "exhibit.tar.xz"}, folder.path()).out);  // passed through
}

TEST(Convert, SaysBeforehandWhatCannotBeKept) {
  TempFolder folder;
  folder.write("a.tar",
               TarBuilder().file("one", "alpha").hard("two", "one").symbolic("three", "one").build());
  Ran told = operculum({"convert", "a.tar", "--as", "zip", "--into", "a.zip"}, folder.path());
  EXPECT_EQ(told.exit_code, 0) << told.err;
  EXPECT_TRUE(has(told.err, "a ZIP archive cannot keep: the hard links, which become files of their own (1)"))
      << told.err;
  EXPECT_EQ(operculum({"show", "a.zip/two"}, folder.path()).out, "alpha");
  Ran strict = operculum({"convert", "a.tar", "--as", "ar", "--into", "a.ar", "--strict"}, folder.path());
  EXPECT_EQ(strict.exit_code, 1);
  EXPECT_TRUE(has(strict.err, "the links (1)")) << strict.err;
  EXPECT_FALSE(folder.has("a.ar"));
}

TEST(Convert, GoesIntoFoldersAndSingleStreams) {
  TempFolder folder;
  folder.write("a.zip", skin());
  EXPECT_EQ(
      operculum({"convert", "a.zip/textures", "--as", "tar", "--into", "t.tar"}, folder.path()).exit_code, 0);
  EXPECT_EQ(operculum({"list", "--paths", "t.tar"}, folder.path()).out, "crab.txt\nlimpet.txt\n");
  folder.write("tides.txt.gz", encode("gzip", to_bytes("high water")));
  EXPECT_EQ(operculum({"convert", "tides.txt.gz", "--as", "zst", "--into", "tides.txt.zst"}, folder.path())
                .exit_code,
            0);
  EXPECT_EQ(operculum({"show", "tides.txt.zst/tides.txt"}, folder.path()).out, "high water");
}

TEST(Convert, WrapsAndUnwrapsDisks) {
  TempFolder folder;
  Bytes disk(9 << 20);
  Bytes some = noise(300'000);
  std::copy(some.begin(), some.end(), disk.begin() + (3 << 20));
  disk[0x1fe] = 0x55;
  folder.write("disk.raw", disk);
  for (const char* form : {"qcow2", "vhd"}) {
    std::string made = std::string("disk.") + form;
    Ran ran = operculum({"convert", "disk.raw", "--as", form, "--into", made}, folder.path());
    ASSERT_EQ(ran.exit_code, 0) << form << ran.err;
    EXPECT_LT(folder.read(made).size(), std::size_t{5} << 20) << form;
    Ran raw = operculum({"convert", made, "--as", "raw", "--into", made + ".raw"}, folder.path());
    EXPECT_EQ(raw.exit_code, 0) << form << raw.err;
    EXPECT_EQ(to_bytes(folder.read(made + ".raw")), disk) << form;
    if (!on_path("qemu-img")) continue;
    Ran same =
        run("qemu-img",
            {"compare", "-f", std::string(form) == "vhd" ? "vpc" : form, "-F", "raw", made, "disk.raw"},
            folder.path());
    EXPECT_EQ(same.exit_code, 0) << form << same.out << same.err;
    if (std::string(form) == "qcow2") {
      EXPECT_EQ(run("qemu-img", {"check", made}, folder.path()).exit_code, 0);
    }
  }
}

TEST(Rebuild, GivesADescribedPackANewContent) {
  TempFolder folder;
  ASSERT_EQ(run(std::getenv("MAKE_DEMO"), {folder.path("demo")}, folder.path()).exit_code, 0);
  folder.write("long.txt", std::string(3000, 'c') + "\n");
  Ran ran = operculum(
      {"rebuild", "demo/packs/tidepool.shoal", "--set", "textures/crab.txt=long.txt", "--into", "new.shoal"},
      folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(operculum({"show", "new.shoal/textures/crab.txt"}, folder.path()).out, folder.read("long.txt"));
  EXPECT_EQ(operculum({"verify", "new.shoal"}, folder.path()).exit_code, 0);
  Ran added = operculum({"rebuild", "demo/packs/tidepool.shoal", "--add", "x=long.txt", "--into", "x.shoal"},
                        folder.path());
  EXPECT_EQ(added.exit_code, 0) << added.err;
  EXPECT_EQ(operculum({"show", "x.shoal/x"}, folder.path()).out, folder.read("long.txt"));
  EXPECT_EQ(operculum({"verify", "x.shoal"}, folder.path()).exit_code, 0);
  Ran tree = operculum({"rebuild", "demo/packs/levels.eel", "--add", "x=long.txt", "--into", "x.eel"},
                       folder.path());
  EXPECT_EQ(tree.exit_code, 3);
  EXPECT_TRUE(has(tree.err, "Unsupported: writing Eel tree back")) << tree.err;
  EXPECT_FALSE(folder.has("x.eel"));
}

TEST(Rebuild, MakesASmallPackInADescribedForm) {
  TempFolder folder;
  ASSERT_EQ(run(std::getenv("MAKE_DEMO"), {folder.path("demo")}, folder.path()).exit_code, 0);
  operculum({"unpack", "demo/packs/tidepool.shoal", "--into", "mine"}, folder.path());
  folder.write("mine/textures/crab.txt", "my crab\n");
  folder.write("mine/textures/whelk.txt", "a whelk\n");
  Ran ran = operculum(
      {"pack", "mine", "--like", "demo/packs/tidepool.shoal", "--changed-only", "--into", "small.shoal"},
      folder.path());
  ASSERT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(operculum({"list", "--paths", "small.shoal"}, folder.path()).out,
            "textures/crab.txt\ntextures/whelk.txt\n");
  EXPECT_EQ(operculum({"show", "small.shoal/textures/whelk.txt"}, folder.path()).out, "a whelk\n");
}

TEST(Pack, MakesAPackOfADescription) {
  TempFolder folder;
  folder.write("logs/march.txt", std::string(5000, 'h'));
  folder.write("logs/april.txt", "low");
  std::filesystem::copy_file(std::string(OPERCULUM_SOURCE) + "/layouts/swell.layout",
                             folder.path("own.2.layout"));
  for (const char* form : {"shoal", "own.2.layout"}) {
    std::string one = std::string(form) + "-one", two = std::string(form) + "-two";
    Ran ran = operculum({"pack", "logs", "--as", form, "--into", one}, folder.path());
    ASSERT_EQ(ran.exit_code, 0) << form << ran.err;
    operculum({"pack", "logs", "--as", form, "--deterministic", "--into", two}, folder.path());
    EXPECT_EQ(folder.read(one), folder.read(two)) << form;
    std::vector<std::string> by = {"--layout", std::string(form) == "shoal" ? "shoal" : form};
    EXPECT_EQ(operculum({"list", "--paths", one, by[0], by[1]}, folder.path()).out, "april.txt\nmarch.txt\n");
    EXPECT_EQ(operculum({"show", one + "/march.txt", by[0], by[1]}, folder.path()).out,
              std::string(5000, 'h'));
  }
  Ran converted = operculum({"convert", "shoal-one", "--as", "swell", "--into", "logs.swell"}, folder.path());
  EXPECT_EQ(converted.exit_code, 0) << converted.err;
  EXPECT_EQ(operculum({"show", "logs.swell/april.txt"}, folder.path()).out, "low");
  Ran refused = operculum({"pack", "logs", "--as", "harbour", "--into", "x"}, folder.path());
  EXPECT_EQ(refused.exit_code, 3);
  EXPECT_TRUE(has(refused.err, "--like CONTAINER takes the form of one that is there")) << refused.err;
  EXPECT_FALSE(folder.has("x"));
}

}  // namespace
}  // namespace operculum::test

// What protects a run from the file that it reads: the program with a parser that tries to do harm, and the
// system calls of ordinary runs.
#include "sandbox/sandbox.h"

#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <regex>
#include <set>

#include "base/text.h"
#include "support/has.h"
#include "support/program.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

struct Sandbox : testing::Test {
  TempFolder temp;

  void SetUp() override {
    if (!enforceable().weaker.empty())
      GTEST_SKIP() << "this kernel has no Landlock or no filter of system calls";
    temp.write("home/diary.txt", "mine");
    temp.write("outside.txt", "not for parsers");
    temp.write("desk/harm.bin", "PLANTED harm\n");
    temp.write("desk/crash.bin", "PLANTED crash\n");
    ASSERT_EQ(symlink(temp.path("outside.txt").c_str(), temp.path("desk/way-out").c_str()), 0);
  }

  Ran planted(const std::vector<std::string>& words) {
    const char* program = std::getenv("PLANTED");
    return run(program == nullptr ? "" : program, words, temp.path("desk"),
               {{"XDG_CONFIG_HOME", temp.path(".config")}, {"HOME", temp.path("home")}});
  }
};

TEST_F(Sandbox, AParserThatIsTakenOverReachesNothing) {
  for (const std::vector<std::string>& command :
       {std::vector<std::string>{"list", "harm.bin"},
        {"unpack", "harm.bin"},
        {"verify", "harm.bin"},
        {"rebuild", "harm.bin", "--remove", "x", "--into", "new.bin"},
        {"show", "harm.bin/x"}}) {
    Ran ran = planted(command);
    EXPECT_EQ(ran.exit_code, 3) << command[0] << ran.err;
    EXPECT_TRUE(has(ran.err, "planted: write-home=refused")) << ran.err;
    EXPECT_EQ(ran.err.find("DONE"), std::string::npos) << command[0] << ": " << ran.err;
    EXPECT_EQ(temp.read("home/diary.txt"), "mine");
  }
  EXPECT_EQ(temp.listing("desk"), "crash.bin harm.bin way-out");
  EXPECT_EQ(temp.listing("home"), "diary.txt");
}

TEST_F(Sandbox, WithoutItTheSameParserReachesAllAndThatIsSaid) {
  Ran ran = planted({"list", "harm.bin", "--no-sandbox"});
  EXPECT_TRUE(has(ran.err, "running without the sandbox, as --no-sandbox asks")) << ran.err;
  // exec comes behind the first tries and ends the program: what was done until then shows.
  EXPECT_TRUE(temp.has("home/planted"));
  EXPECT_FALSE(temp.has("home/diary.txt"));
}

TEST_F(Sandbox, ACrashEndsInASentence) {
  Ran ran = planted({"list", "crash.bin"});
  EXPECT_EQ(ran.exit_code, 134) << ran.err;
  EXPECT_TRUE(has(ran.err, "operculum: error: a mistake in this program was met")) << ran.err;
}

TEST_F(Sandbox, IsToldByVerboseAndByTheDoctor) {
  temp.write("desk/a.zip", ZipBuilder().add("a", "1").build());
  EXPECT_TRUE(
      has(operculum({"list", "a.zip", "--verbose"}, temp.path("desk")).err, "sandbox: files by Landlock"));
  Ran doctor = operculum({"doctor"}, temp.path());
  EXPECT_TRUE(has(doctor.out, "files by Landlock")) << doctor.out;
  EXPECT_TRUE(has(operculum({"doctor", "--json"}, temp.path()).out,
                  R"({"record":"checkup","subject":"sandbox","well":true)"));
}

TEST_F(Sandbox, WhatAPersonNamedLiesAnywhere) {
  temp.write("desk/a.zip", ZipBuilder().add("a", "1").add("b", "2").build());
  temp.write("lists/wanted.txt", "b\n");
  for (const char* command : {"list", "unpack"}) {
    Ran ran = operculum({command, "a.zip", "--list-from", "../lists/wanted.txt"}, temp.path("desk"));
    EXPECT_EQ(ran.exit_code, 0) << ran.err;
  }
  EXPECT_EQ(temp.listing("desk/a"), "b");
  temp.write("cellar/old.zip", ZipBuilder().add("old.txt", "3").build());
  std::filesystem::create_directory(temp.path("shelf"));
  std::filesystem::create_symlink(temp.path("cellar/old.zip"), temp.path("shelf/link.zip"));
  EXPECT_TRUE(
      has(operculum({"find", "shelf", "--match", "old.txt"}, temp.path()).out, "shelf/link.zip/old.txt"));
  EXPECT_TRUE(has(operculum({"identify", "shelf"}, temp.path()).out, "ZIP"));
  Ran catalogue = operculum({"catalogue", "s.db", "shelf"}, temp.path());
  EXPECT_EQ(catalogue.exit_code, 0) << catalogue.err;
  EXPECT_TRUE(has(catalogue.out, "1 entry")) << catalogue.out;
}

/// The paths that were opened after the filter was set, and calls that no run should make.
struct Traced {
  std::set<std::string> opened, made, other;
};

Traced traced(const std::string& log) {
  static const std::regex kCall(
      R"re((\w+)\((?:AT_FDCWD(?:<[^>]*>)?, |\d+<([^>]*)>, )?(?:"([^"]*)")?.*\) += (-?\d+)(?:<([^>]*)>)?.*)re");
  Traced found;
  bool confined = false;
  for (std::string_view line : split(log, '\n')) {
    if (line.find("seccomp(SECCOMP_SET_MODE_FILTER") != std::string_view::npos ||
        line.find("PR_SET_SECCOMP") != std::string_view::npos)
      confined = true;
    if (!confined) continue;
    std::cmatch match;
    if (!std::regex_search(line.data(), line.data() + line.size(), match, kCall)) continue;
    std::string call = match[1], path = match[3], real = match[5];
    if (match[4].str().starts_with('-')) continue;
    if (call.starts_with("open")) {
      found.opened.insert(real.empty() ? path : real);
      if (line.find("O_WRONLY") != std::string_view::npos || line.find("O_RDWR") != std::string_view::npos)
        found.made.insert(real.empty() ? path : real);
    } else if (call == "execve" || call == "socket" || call == "connect" || call == "mount" ||
               call == "ptrace") {
      found.other.insert(call);
    }
  }
  return found;
}

/// Commands as people run them, each with the folders beneath which it may write.
struct Case {
  std::vector<std::string> words;
  std::vector<std::string> writes;
};

TEST_F(Sandbox, OrdinaryRunsTouchNothingElse) {
  if (!on_path("strace")) GTEST_SKIP() << "strace is not installed";
  temp.write("desk/a.zip", ZipBuilder().add("d/a.txt", "one").add("b.txt", "two").build());
  temp.write("desk/b.tar", TarBuilder().file("d/a.txt", "one").file("b.txt", "three").build());
  unlink(temp.path("desk/way-out").c_str());  // a link that the person has there is followed
  temp.write("desk/new.txt", "new");
  temp.write("desk/loose/b.txt", "four");
  const std::vector<Case> cases = {
      {{"identify", "a.zip", "b.tar"}, {}},
      {{"list", "a.zip", "--kinds"}, {}},
      {{"show", "a.zip/b.txt"}, {}},
      {{"verify", "--deep", "b.tar"}, {}},
      {{"unpack", "a.zip", "--into", "out"}, {"/out"}},
      {{"unpack", "a.zip", "--dry-run"}, {}},
      {{"compare", "a.zip", "b.tar"}, {}},
      {{"find", ".", "--match", "b.txt"}, {}},
      {{"order", "a.zip", "b.tar"}, {}},
      {{"study", "new.txt"}, {}},
      {{"rebuild", "a.zip", "--set", "b.txt=new.txt", "--into", "made/c.zip"}, {"/made"}},
      {{"pack", "loose", "--as", "zip", "--into", "made/d.zip"}, {"/made"}},
      {{"convert", "a.zip", "--as", "tar", "--into", "made/e.tar"}, {"/made"}},
      {{"catalogue", "shelf/s.db", "a.zip"}, {"/shelf"}},
      {{"install-report", "a.zip"}, {}},
      {{"layout", "list"}, {}}};
  const char* program = std::getenv("OPERCULUM");
  ASSERT_NE(program, nullptr);
  std::string desk = temp.path("desk");
  for (const char* folder : {"/made", "/shelf"}) mkdir((desk + folder).c_str(), 0777);
  std::string build = std::string(program).substr(0, std::string(program).rfind('/'));
  for (const Case& one : cases) {
    std::vector<std::string> words = {"-f",   "-y",
                                      "-s",   "300",
                                      "-o",   temp.path("log"),
                                      "-e",   "trace=%file,%network,%process,seccomp,prctl,ptrace",
                                      program};
    words.insert(words.end(), one.words.begin(), one.words.end());
    run("strace", words, desk,
        {{"XDG_CONFIG_HOME", temp.path(".config")}, {"ASAN_OPTIONS", "detect_leaks=0"}, {"TMPDIR", "/tmp"}});
    Traced found = traced(temp.read("log"));
    EXPECT_TRUE(found.other.empty()) << one.words[0] << ": " << *found.other.begin();
    auto beneath = [](const std::string& path, const std::string& folder) {
      return path == folder || path.starts_with(folder + "/");
    };
    for (const std::string& path : found.opened) {
      bool system = beneath(path, "/usr/lib") || beneath(path, "/lib") || beneath(path, "/usr/share") ||
                    beneath(path, "/etc/ld.so.cache") || beneath(path, "/etc/magic") ||
                    beneath(path, "/etc/ssl") || beneath(path, "/etc/localtime") ||
                    beneath(path, "/sys/devices/system/cpu") || beneath(path, "/proc") ||
                    beneath(path, build) || path.find("/layouts") != std::string::npos;
      EXPECT_TRUE(system || beneath(path, desk) || path == ".") << one.words[0] << " opened " << path;
    }
    for (const std::string& path : found.made) {
      bool allowed = path == "/dev/null";
      for (const std::string& folder : one.writes) allowed |= beneath(path, desk + folder);
      EXPECT_TRUE(allowed) << one.words[0] << " opened for writing " << path;
    }
    EXPECT_FALSE(found.opened.empty()) << one.words[0];
  }
}

}  // namespace
}  // namespace operculum::test

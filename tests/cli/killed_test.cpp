// Ended at any moment: by SIGKILL nothing half stays under a final name, and the same command completes what
// was begun; by other signals the exit code says which.
#include <gtest/gtest.h>

#include <csignal>
#include <filesystem>
#include <map>

#include "base/text.h"
#include "codec/codec.h"
#include "support/has.h"
#include "support/program.h"
#include "support/sample_tree.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

/// How often each command is killed; OPERCULUM_KILLS makes it more.
unsigned kills() {
  const char* wanted = std::getenv("OPERCULUM_KILLS");
  return wanted == nullptr ? 5 : static_cast<unsigned>(parse_number(wanted).value_or(5));
}

struct Killed : testing::Test {
  TempFolder temp;
  std::map<std::string, std::string> files;

  Killed() {
    for (int i = 0; i < 60; ++i)
      files["d" + std::to_string(i % 7) + "/" + std::to_string(i) + ".bin"] =
          std::string(as_text(noise(static_cast<std::size_t>(i) * 3000, static_cast<unsigned>(i))));
  }
  Bytes zip() const {
    ZipBuilder builder;
    for (const auto& [path, content] : files) builder.add(path, content);
    return builder.build();
  }

  /// Kills the command at moments spread over how long it takes when nobody does.
  void kill_often(const std::vector<std::string>& command, const std::function<void()>& begin,
                  const std::function<void()>& look) {
    for (unsigned i = 0; i < kills(); ++i) {
      begin();
      constexpr unsigned kLongest = 250'000;  // microseconds
      Ran ran = operculum_ended(command, temp.path(), SIGKILL, kLongest / kills() * i + 2000);
      EXPECT_TRUE(ran.exit_code == 128 + SIGKILL || ran.exit_code == 0) << ran.err;
      look();
      EXPECT_EQ(temp.listing().find(".part"), std::string::npos) << temp.listing();
    }
  }

  /// Whatever is beneath a folder is whole.
  void expect_whole(const std::string& folder, bool complete) {
    for (const auto& [path, content] : files) {
      std::string own = folder + "/" + path;
      if (!complete && !temp.has(own)) continue;
      EXPECT_TRUE(temp.read(own) == content) << own;
    }
  }
};

TEST_F(Killed, Unpack) {
  temp.write("a.zip", zip());
  std::vector<std::string> command = {"unpack", "a.zip", "--into", "out"};
  kill_often(
      command, [&] { std::filesystem::remove_all(temp.path("out")); },
      [&] {
        expect_whole("out", false);
        EXPECT_EQ(operculum(command, temp.path()).exit_code, 0);
        expect_whole("out", true);
      });
}

TEST_F(Killed, RebuildInPlace) {
  Bytes before = zip();
  temp.write("new.txt", "new");
  std::vector<std::string> command = {"rebuild", "a.zip", "--set", "d1/1.bin=new.txt", "--in-place"};
  std::string after;
  {
    temp.write("a.zip", before);
    EXPECT_EQ(operculum(command, temp.path()).exit_code, 0);
    after = temp.read("a.zip");
  }
  kill_often(
      command,
      [&] {
        std::filesystem::remove(temp.path("a.zip.before"));
        temp.write("a.zip", before);
      },
      [&] {
        std::string now = temp.read("a.zip");
        EXPECT_TRUE(now == after || now == as_text(before)) << now.size();
        EXPECT_EQ(operculum(command, temp.path()).exit_code, 0);
        EXPECT_TRUE(temp.read("a.zip") == after);
      });
}

TEST_F(Killed, Catalogue) {
  temp.write("shelf/a.zip", zip());
  // older than the others: equal times are told in the order in which files were read
  temp.write("shelf/b.tar",
             TarBuilder().add({.name = "b.txt", .data = to_bytes("beta"), .mtime = 1'700'000'000}).build());
  std::vector<std::string> command = {"catalogue", "s.db", "shelf", "--digests"};
  EXPECT_EQ(operculum({"catalogue", "whole.db", "shelf", "--digests"}, temp.path()).exit_code, 0);
  std::string report = operculum({"catalogue", "report", "whole.db", "--csv"}, temp.path()).out;
  kill_often(
      command,
      [&] {
        for (const char* ending : {"", "-wal", "-shm", "-journal"})
          std::filesystem::remove(temp.path(std::string("s.db") + ending));
      },
      [&] {
        EXPECT_EQ(operculum(command, temp.path()).exit_code, 0);
        EXPECT_EQ(operculum({"catalogue", "report", "s.db", "--csv"}, temp.path()).out, report);
      });
}

TEST_F(Killed, Discard) {
  temp.write("a.zip", zip());
  std::vector<std::string> command = {"discard", "receipt.json"};
  kill_often(
      command,
      [&] {
        std::filesystem::remove_all(temp.path("out"));
        std::filesystem::remove(temp.path("receipt.json"));
        EXPECT_EQ(operculum({"unpack", "a.zip", "--into", "out", "--receipt", "receipt.json"}, temp.path())
                      .exit_code,
                  0);
      },
      [&] {
        expect_whole("out", false);
        bool gone = !temp.has("out");
        int code = operculum(command, temp.path()).exit_code;
        EXPECT_TRUE(gone || code == 0 || code == 1) << code;
        EXPECT_FALSE(temp.has("out")) << temp.listing("out");
      });
}

struct Ended : testing::TestWithParam<int> {
  TempFolder temp;
};

/// From the first millisecond on: while the program starts, while a large solid archive is opened, while
/// files are written.
TEST_P(Ended, SaysWhichSignalItWas) {
  Bytes block = noise(1 << 20);
  TarBuilder tar;
  for (int i = 0; i < 16; ++i) tar.add({.name = "n" + std::to_string(i), .data = block});
  Bytes solid = encode("gzip", tar.build());
  temp.write("a.tar.gz", solid);
  for (unsigned after : {1000u, 30'000u, 120'000u, kAtFirstWord}) {
    for (const std::vector<std::string>& command :
         {std::vector<std::string>{"show", "a.tar.gz/n15"},
          {"unpack", "a.tar.gz", "--into", "out", "--progress", "always"}}) {
      if (after == kAtFirstWord && command[0] == "show") continue;
      Ran ran = operculum_ended(command, temp.path(), GetParam(), after);
      if (ran.exit_code == 0) continue;  // it was done
      EXPECT_EQ(ran.exit_code, 128 + GetParam()) << ran.err;
      EXPECT_TRUE(after != kAtFirstWord || has(ran.err, "interrupted")) << ran.err;
      for (const auto& file : std::filesystem::recursive_directory_iterator(temp.path())) {
        std::string name = file.path().filename().string();
        EXPECT_TRUE(!name.starts_with("n") || file.file_size() == block.size()) << name;
        EXPECT_FALSE(name.starts_with(".operculum-")) << name;
      }
      EXPECT_TRUE(!temp.has("out") || temp.listing("out") != "") << "an empty folder stays";
      std::filesystem::remove_all(temp.path("out"));
    }
  }
}

INSTANTIATE_TEST_SUITE_P(Signals, Ended, ::testing::Values(SIGINT, SIGTERM, SIGHUP));

}  // namespace
}  // namespace operculum::test

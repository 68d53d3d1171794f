#include <gtest/gtest.h>
#include <sys/stat.h>

#include "support/program.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

struct Terminal : testing::Test {
  TempFolder temp;
  void SetUp() override {
    temp.write(
        "locked.zip",
        ZipBuilder()
            .add({.name = "secret", .data = to_bytes("pearl"), .password = "limpet", .aes_strength = 3})
            .build());
  }
  Ran on_terminal(const std::vector<std::string>& arguments, const std::vector<Typed>& typed = {}) {
    return operculum_on_terminal(arguments, temp.path(), typed);
  }
  std::string unpacked() { return operculum({"show", "out/secret"}, temp.path()).out; }
};

TEST_F(Terminal, AsksForThePasswordAndDoesNotEchoIt) {
  Ran ran =
      on_terminal({"unpack", "locked.zip", "--into", "out"}, {{"Password for locked.zip: ", "limpet\n"}});
  EXPECT_EQ(ran.exit_code, 0) << ran.out;
  EXPECT_EQ(ran.out.find("limpet"), std::string::npos) << ran.out;
  EXPECT_EQ(unpacked(), "pearl");
}

TEST_F(Terminal, AsksThreeTimesAndTellsWrongFromDamaged) {
  Ran third =
      on_terminal({"unpack", "locked.zip", "--into", "out"}, {{"Password for locked.zip: ", "crab\n"},
                                                              {"Password for locked.zip: ", "whelk\n"},
                                                              {"Password for locked.zip: ", "limpet\n"}});
  EXPECT_EQ(third.exit_code, 0) << third.out;
  EXPECT_EQ(unpacked(), "pearl");
  Ran never = on_terminal({"unpack", "locked.zip", "--into", "none"}, {{"Password for locked.zip: ", "a\n"},
                                                                       {"Password for locked.zip: ", "b\n"},
                                                                       {"Password for locked.zip: ", "c\n"}});
  EXPECT_EQ(never.exit_code, 4) << never.out;
  EXPECT_NE(never.out.find("password"), std::string::npos);
  EXPECT_EQ(never.out.find("damaged"), std::string::npos) << never.out;
}

TEST_F(Terminal, AnEmptyAnswerGivesUp) {
  Ran ran = on_terminal({"unpack", "locked.zip", "--into", "out"}, {{"Password for locked.zip: ", "\n"}});
  EXPECT_EQ(ran.exit_code, 4) << ran.out;
  EXPECT_NE(ran.out.find("a password is needed"), std::string::npos) << ran.out;
}

TEST_F(Terminal, NobodyIsAskedWithoutATerminal) {
  Ran ran = operculum({"unpack", "locked.zip", "--into", "out"}, temp.path());
  EXPECT_EQ(ran.exit_code, 4);
  EXPECT_EQ((ran.out + ran.err).find("Password for"), std::string::npos);
}

TEST_F(Terminal, ProgressShowsOnALineOfItsOwnAndGoesAway) {
  temp.write("pool.zip", ZipBuilder().add("crab.txt", std::string(5000, 'c')).build());
  Ran ran = on_terminal({"unpack", "pool.zip", "--into", "out", "--progress", "always"});
  EXPECT_EQ(ran.exit_code, 0) << ran.out;
  EXPECT_NE(ran.out.find("\r\x1b[K"), std::string::npos) << "the line is drawn over itself";
  EXPECT_NE(ran.out.find("B/s"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find(" file"), std::string::npos);
  std::size_t last = ran.out.rfind("\r\x1b[K");
  EXPECT_EQ(ran.out.find("B/s", last), std::string::npos) << "nothing of it is left";
  Ran none = on_terminal({"unpack", "pool.zip", "--into", "out2", "--progress", "never"});
  EXPECT_EQ(none.out.find("\x1b[K"), std::string::npos) << none.out;
  Ran briefly = on_terminal({"unpack", "pool.zip", "--into", "out3"});
  EXPECT_EQ(briefly.out.find("B/s"), std::string::npos) << "short work shows nothing";
}

TEST_F(Terminal, TextIsShownAsTextAndOtherBytesAsHex) {
  temp.write(
      "pool.zip",
      ZipBuilder().add("note.txt", "high water\n").add("raw", std::string("\x01\x00\x1b[31m", 7)).build());
  EXPECT_NE(on_terminal({"show", "pool.zip/note.txt"}).out.find("high water"), std::string::npos);
  Ran raw = on_terminal({"show", "pool.zip/raw"});
  EXPECT_NE(raw.out.find("01 00 1b"), std::string::npos) << raw.out;
  EXPECT_EQ(raw.out.find("\x1b[31m"), std::string::npos) << "bytes of an entry never steer the terminal";
}

}  // namespace
}  // namespace operculum::test

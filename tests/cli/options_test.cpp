// How the command line speaks.
#include <gtest/gtest.h>

#include "support/has.h"
#include "support/program.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

struct CommandLine : testing::Test {
  TempFolder folder;
  void SetUp() override { folder.write("kiosk.zip", ZipBuilder().add("tide.lua", "return 4.1\n").build()); }
  Ran run(const std::vector<std::string>& words) { return operculum(words, folder.path()); }
};

TEST_F(CommandLine, AFileAloneIsIdentified) {
  EXPECT_EQ(run({"kiosk.zip"}).out, run({"identify", "kiosk.zip"}).out);
  EXPECT_TRUE(has(run({"kiosk.zip/tide.lua"}).out, "in        a ZIP archive kiosk.zip"));
}

TEST_F(CommandLine, SuggestsTheNearestCommandAndOption) {
  Ran command = run({"lsit", "kiosk.zip"});
  EXPECT_EQ(command.exit_code, 3) << "the file is identified, the first word is no file";
  Ran alone = run({"lsit"});
  EXPECT_EQ(alone.exit_code, 2);
  EXPECT_TRUE(
      has(alone.err,
          "operculum: error: \"lsit\" is neither a command nor a file (did you mean `operculum list`?)"))
      << alone.err;
  Ran option = run({"list", "--tre", "kiosk.zip"});
  EXPECT_EQ(option.exit_code, 2);
  EXPECT_TRUE(has(option.err, "operculum list has no option --tre; did you mean --tree?")) << option.err;
}

TEST_F(CommandLine, NamesTheWordsThatCanBeChosen) {
  Ran ran = run({"list", "--sort", "name", "kiosk.zip"});
  EXPECT_EQ(ran.exit_code, 2);
  EXPECT_TRUE(has(ran.err, "it may be one of: size, path, time, stored")) << ran.err;
  EXPECT_FALSE(has(ran.err, "->")) << ran.err;
}

TEST_F(CommandLine, EveryErrorBeginsWithTheProgramsName) {
  for (const auto& words : std::vector<std::vector<std::string>>{{},
                                                                 {"list"},
                                                                 {"list", "--nonsense", "x"},
                                                                 {"show", "none.zip/x"},
                                                                 {"unpack", "kiosk.zip", "--jobs", "many"}}) {
    Ran ran = run(words);
    EXPECT_TRUE(ran.err.starts_with("operculum: ")) << ran.err;
    EXPECT_NE(ran.exit_code, 0);
  }
}

TEST_F(CommandLine, HelpShowsExamplesAndWhatWorksEverywhere) {
  for (const char* command :
       {"identify", "list", "show", "unpack", "discard", "verify", "formats", "mount", "install-report"}) {
    std::string help = run({command, "--help"}).out;
    std::size_t examples = help.find("examples:\n  operculum ");
    ASSERT_NE(examples, std::string::npos) << help;
    EXPECT_NE(help.find("\n  operculum ", examples + 12), std::string::npos) << "two examples: " << help;
    EXPECT_TRUE(has(help, "everywhere:")) << help;
    EXPECT_TRUE(has(help, "--password-file FILE")) << help;
  }
}

TEST_F(CommandLine, HelpIsAsWideAsTheTerminal) {
  for (auto [columns, width] : {std::pair{"60", 60u}, std::pair{"120", 120u}}) {
    std::string help = operculum({"unpack", "--help"}, folder.path(), {{"COLUMNS", columns}}).out;
    std::size_t begin = help.find("options:"), widest = 0;
    for (std::size_t at = begin; at < help.size();) {
      std::size_t end = help.find('\n', at);
      widest = std::max(widest, end - at);
      at = end + 1;
    }
    EXPECT_LE(widest, width);
    EXPECT_GT(widest, width * 3 / 4);
  }
}

TEST_F(CommandLine, OutputHasItsNameOnlyWhenItIsComplete) {
  EXPECT_EQ(run({"list", "kiosk.zip", "--paths", "--output", "paths.txt"}).exit_code, 0);
  EXPECT_EQ(folder.read("paths.txt"), "tide.lua\n");
  EXPECT_EQ(run({"list", "kiosk.zip", "--output", "paths.txt"}).exit_code, 3) << "nothing is replaced";
  EXPECT_EQ(folder.read("paths.txt"), "tide.lua\n");
}

}  // namespace
}  // namespace operculum::test

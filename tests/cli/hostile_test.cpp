// What a container could try: each test unpacks it with the built program and looks at what is on disk
// afterwards.
#include <gtest/gtest.h>

#include "codec/codec.h"
#include "support/program.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

struct Hostile : testing::Test {
  TempFolder temp;

  /// Unpacks into "out" beneath the temporary folder; whatever escapes shows beside it.
  Ran unpack(const Bytes& container, const std::vector<std::string>& options = {}) {
    temp.write("h.bin", container);
    std::vector<std::string> words = {"unpack", "h.bin", "--into", "deep/er/out"};
    words.insert(words.end(), options.begin(), options.end());
    Ran ran = operculum(words, temp.path());
    EXPECT_EQ(temp.listing().find("evil") == std::string::npos ||
                  temp.listing("deep/er/out").find("evil") != std::string::npos,
              true)
        << temp.listing();
    return ran;
  }
  std::string out() { return temp.listing("deep/er/out"); }
};

TEST_F(Hostile, NamesThatClimbStayInside) {
  Ran ran = unpack(ZipBuilder().add("../../../evil", "x").add("a/../../evil2", "x").add("..", "x").build());
  EXPECT_EQ(out(), "a/ a/evil2 evil");
  EXPECT_NE(ran.err.find("../../../evil: written as evil (\"..\" left out)"), std::string::npos);
  EXPECT_NE(ran.err.find("..: left out"), std::string::npos);
}

TEST_F(Hostile, AbsoluteDriveAndBackslashNamesStayInside) {
  unpack(ZipBuilder()
             .add("/tmp/evil", "x")
             .add("C:/evil2", "x")
             .add({.name = "..\\..\\evil3", .data = to_bytes("x"), .made_by = 0})
             .build());
  EXPECT_EQ(out(), "evil2 evil3 tmp/ tmp/evil");
}

TEST_F(Hostile, ControlCharactersReachNeitherDiskNorTerminal) {
  std::string name("evil\x1b]0;owned\x07\n\xe2\x80\xae", 18);
  Ran ran = unpack(ZipBuilder()
                       .add({.name = name, .data = to_bytes("x"), .utf8 = true})
                       .add(std::string("n\0l", 3), "x")
                       .build());
  EXPECT_EQ(out(), "evil_]0;owned___ n_l");
  EXPECT_EQ((ran.out + ran.err).find('\x1b'), std::string::npos);
  Ran list = operculum({"list", "h.bin"}, temp.path());
  EXPECT_EQ(list.out.find('\x1b'), std::string::npos);
  EXPECT_NE(list.out.find("evil\\x1b]0;owned\\x07\\n\\u202e"), std::string::npos);
}

TEST_F(Hostile, LinksThatLeadOutAreLeftOutOrTold) {
  Ran ran = unpack(TarBuilder()
                       .symbolic("up", "../../x")
                       .symbolic("abs", "/etc")
                       .symbolic("ok", "file")
                       .file("file", "x")
                       .build());
  EXPECT_EQ(out(), "abs file ok");
  EXPECT_NE(ran.err.find("up: left out, the link leads out of the output folder, to ../../x"),
            std::string::npos);
  EXPECT_NE(ran.err.find("it leads out of the output folder, to /etc; made as stored"), std::string::npos);
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_EQ(unpack(TarBuilder().symbolic("b", "/etc").build(), {"--links", "inside"}).exit_code, 1);
  EXPECT_EQ(out().find(" b"), std::string::npos);
}

TEST_F(Hostile, NothingIsWrittenThroughALinkOfTheContainer) {
  std::filesystem::create_directory(temp.path("victim"));
  unpack(TarBuilder().symbolic("a", temp.path("victim")).file("a/evil", "x").build());
  EXPECT_EQ(temp.listing("victim"), "");
  EXPECT_EQ(out(), "a a~2/ a~2/evil") << "links are made last, and the folder is not the link";
}

TEST_F(Hostile, NothingIsWrittenThroughALinkThatIsThere) {
  std::filesystem::create_directories(temp.path("deep/er/out"));
  std::filesystem::create_directory(temp.path("victim"));
  std::filesystem::create_directory_symlink(temp.path("victim"), temp.path("deep/er/out/a"));
  Ran ran = unpack(ZipBuilder().add("a/evil", "x").add("b", "fine").build());
  EXPECT_EQ(temp.listing("victim"), "");
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_NE(ran.err.find("a link there leads out of the folder"), std::string::npos);
  EXPECT_EQ(temp.read("deep/er/out/b"), "fine");
}

TEST_F(Hostile, HardLinksReachNothingOutside) {
  temp.write("precious", "mine");
  Ran ran = unpack(TarBuilder()
                       .hard("evil", "../../../precious")
                       .hard("evil2", temp.path("precious"))
                       .file("real", "x")
                       .hard("twin", "real")
                       .build());
  EXPECT_EQ(out(), "real twin");
  EXPECT_NE(ran.err.find("its hard link names"), std::string::npos);
  EXPECT_EQ(temp.read("precious"), "mine");
}

TEST_F(Hostile, TheSameNameTwiceLosesNothing) {
  Ran ran = unpack(ZipBuilder().add("a.txt", "first").add("a.txt", "second").build());
  EXPECT_EQ(temp.read("deep/er/out/a.txt"), "first");
  EXPECT_EQ(temp.read("deep/er/out/a~2.txt"), "second");
  EXPECT_NE(ran.err.find("another entry has the same name"), std::string::npos);
}

TEST_F(Hostile, InATarTheLaterOneIsTheCurrentOne) {
  TarBuilder tar;
  tar.file("a.txt", "first").file("b", "x").file("a.txt", "second");
  for (const Bytes& form : {tar.build(), encode("gzip", tar.build())}) {
    Ran ran = unpack(form, {"--existing", "replace"});
    EXPECT_EQ(temp.read("deep/er/out/a.txt"), "second");
    EXPECT_NE(ran.err.find("the later one replaces the earlier one"), std::string::npos);
  }
  unpack(tar.build());
  EXPECT_EQ(out(), "a.txt b");
}

TEST_F(Hostile, AFileAndAFolderOfOneNameBothAppear) {
  unpack(ZipBuilder().add("a", "file").add("a/b", "beneath").build());
  EXPECT_EQ(out(), "a a~2/ a~2/b");
}

TEST_F(Hostile, ForOtherSystemsNamesAreMadeUniqueWithoutCase) {
  Ran plain = unpack(ZipBuilder().add("Crab", "1").add("crab", "2").add("con", "3").add("dot.", "4").build());
  EXPECT_EQ(out(), "Crab con crab dot.");
  EXPECT_NE(plain.err.find("2 names would be refused by other systems"), std::string::npos);
  temp.write("h.bin",
             ZipBuilder().add("Crab", "1").add("crab", "2").add("con", "3").add("dot.", "4").build());
  EXPECT_EQ(operculum({"unpack", "h.bin", "--into", "p", "--portable-names"}, temp.path()).exit_code, 0);
  EXPECT_EQ(temp.listing("p"), "Crab _con crab~2 dot_");
}

TEST_F(Hostile, OverlongNamesAreShortened) {
  Ran ran = unpack(ZipBuilder().add(std::string(400, 'n') + ".png", "x").build());
  EXPECT_EQ(out().size(), 255u);
  EXPECT_NE(ran.err.find("a part of more than 255 bytes shortened"), std::string::npos);
}

TEST_F(Hostile, DevicesAreNotMadeUnlessAsked) {
  Ran ran = unpack(TarBuilder()
                       .add({.name = "gauge", .typeflag = '3', .device_major = 1, .device_minor = 3})
                       .add({.name = "pipe", .typeflag = '6'})
                       .build());
  EXPECT_EQ(out(), "");
  EXPECT_NE(ran.err.find("gauge: left out, it is a character device; --devices makes those"),
            std::string::npos);
  EXPECT_EQ(unpack(TarBuilder().add({.name = "pipe", .typeflag = '6'}).build(), {"--devices"}).exit_code, 0);
  EXPECT_EQ(out(), "pipe");
}

TEST_F(Hostile, SetIdBitsAreDroppedUnlessAsked) {
  unpack(TarBuilder().add({.name = "run", .data = to_bytes("x"), .mode = 06755}).build());
  using std::filesystem::perms;
  EXPECT_EQ(std::filesystem::status(temp.path("deep/er/out/run")).permissions() & perms::mask,
            static_cast<perms>(0755));
  unpack(TarBuilder().add({.name = "run2", .data = to_bytes("x"), .mode = 06755}).build(),
         {"--special-modes"});
  EXPECT_EQ(std::filesystem::status(temp.path("deep/er/out/run2")).permissions() & perms::mask,
            static_cast<perms>(06755));
}

TEST_F(Hostile, ExpansionIsStoppedByRatioAndTotal) {
  Bytes bomb = encode("xz", Bytes(std::size_t{300} << 20));
  temp.write("bomb.xz", bomb);
  Ran ran = operculum({"unpack", "bomb.xz", "--into", "out"}, temp.path());
  EXPECT_EQ(ran.exit_code, 5);
  EXPECT_NE(ran.err.find(
                "more than 2000 to 1, as files made to fill a disk do; if that is right, raise --max-ratio"),
            std::string::npos);
  EXPECT_EQ(temp.listing("out"), "");
  EXPECT_EQ(operculum({"verify", "bomb.xz"}, temp.path()).exit_code, 5);
  Ran total = unpack(ZipBuilder().add("a", std::string(5000, 'x')).build(), {"--max-total", "4K"});
  EXPECT_EQ(total.exit_code, 5);
  EXPECT_NE(total.err.find("raise --max-total"), std::string::npos);
}

TEST_F(Hostile, NestingIsStoppedByDepth) {
  Bytes inner = to_bytes("core");
  for (int i = 0; i < 30; ++i) inner = ZipBuilder().stored("n.zip", inner).build();
  temp.write("deep.zip", inner);
  Ran ran = operculum({"unpack", "--deep", "deep.zip", "--into", "out"}, temp.path());
  EXPECT_EQ(ran.exit_code, 5);
  EXPECT_NE(ran.err.find("raise --max-depth"), std::string::npos);
  EXPECT_EQ(operculum({"list", "--deep", "--max-depth", "40", "--paths", "deep.zip"}, temp.path()).exit_code,
            0);
}

TEST_F(Hostile, AnEntryThatClaimsGigabytesAllocatesNothing) {
  ZipItem item{.name = "huge", .data = to_bytes("tiny"), .codec = "stored", .method = 0};
  Bytes zip = ZipBuilder().add(item).build();
  for (std::size_t at :
       {std::size_t{18}, std::size_t{22}, zip.size() - 22 - 46 - 4 + 20, zip.size() - 22 - 46 - 4 + 24})
    zip[at + 3] = 0x7f;
  Ran ran = unpack(zip);
  EXPECT_EQ(ran.exit_code, 1);
  EXPECT_NE(ran.err.find("huge: "), std::string::npos);
  EXPECT_EQ(out(), "");
}

}  // namespace
}  // namespace operculum::test

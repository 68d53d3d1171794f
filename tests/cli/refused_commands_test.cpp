// What is said to a command that cannot be done: sentence and exit code, and that nothing was written.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <filesystem>

#include "support/has.h"
#include "support/program.h"
#include "support/sample_tree.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

struct RefusedCase {
  std::string name;
  std::vector<std::string> words;
  std::string sentence;
  std::map<std::string, std::string> environment = {};
};

class RefusedCommand : public ::testing::TestWithParam<RefusedCase> {};

TEST_P(RefusedCommand, TellsWhyAndWritesNothing) {
  constexpr std::size_t kTooLargeKey = (8 << 20) + 1;
  TempFolder folder;
  folder.write("a.zip", ZipBuilder()
                            .folder("textures")
                            .add("textures/crab.txt", "red crab")
                            .add("textures/eel.txt", "eel")
                            .add("tide.lua", "tide = 1")
                            .build());
  folder.write("deep.zip", ZipBuilder().add("pool/crab.txt", "red crab").build());
  TarBuilder links;
  links.file("crab.txt", "red crab").hard("twin", "crab.txt").symbolic("latest", "crab.txt");
  folder.write("links.tar", links.build());
  Bytes cut = TarBuilder().file("crab.txt", "red crab").file("eel.bin", std::string(3000, 'e')).build();
  folder.write("cut.tar", ByteView(cut).first(2600));
  folder.write("lost.tar", TarBuilder().hard("twin", "gone.txt").build());
  Bytes whole =
      ZipBuilder().add("crab.txt", std::string(3000, 'c')).stored("eel.bin", Bytes(3000, 'e')).build();
  folder.write("parts.zip.001", ByteView(whole).first(2000));
  folder.write("parts.zip.002", ByteView(whole).subspan(2000));
  folder.write("plain.txt", "a line of text\n");
  folder.write("empty.key", "");
  folder.write("notes/limpet.txt", "limpet");
  folder.write("odd/!", "a name in front of letters and digits");
  ASSERT_EQ(mkdir(folder.path("view").c_str(), 0700), 0);
  ASSERT_EQ(mkfifo(folder.path("pipe").c_str(), 0600), 0);
  if (GetParam().name == "DigestsThatAreTooMany")
    std::filesystem::resize_file(folder.write("sums.txt", "x"), (64 << 20) + 1);
  if (GetParam().name == "KeyThatIsTooLarge") folder.write("large.key", std::string(kTooLargeKey, 'k'));
  folder.write("config/operculum/keys.toml", "[[key]]\nfor = \"*\"\n");
  folder.write("tables/operculum/keys.toml", "key = 3\n");
  folder.write("broken/operculum/keys.toml", "[[key\n");
  std::map<std::string, std::string> environment = GetParam().environment;
  if (auto config = environment.find("XDG_CONFIG_HOME"); config != environment.end())
    config->second = folder.path(config->second);
  std::string before = folder.listing();
  Ran ran = operculum(GetParam().words, folder.path(), environment);
  EXPECT_EQ(ran.exit_code, 3) << ran.out;
  EXPECT_TRUE(has(ran.err, "operculum: error: ")) << ran.err;
  EXPECT_TRUE(has(ran.err, GetParam().sentence)) << ran.err;
  EXPECT_EQ(folder.listing(), before);
}

INSTANTIATE_TEST_SUITE_P(
    Look, RefusedCommand,
    ::testing::Values(
        RefusedCase{"ShowAContainer",
                    {"show", "a.zip"},
                    "a.zip: it is a container (ZIP archive); name an entry in it, or see what there is with: "
                    "operculum list a.zip"},
        RefusedCase{"ShowBeyondTheEnd",
                    {"show", "a.zip/textures/crab.txt", "--from", "99"},
                    "a.zip/textures/crab.txt: it has 8 bytes, so there is nothing from 99 on"},
        RefusedCase{
            "ShowWithinAFile",
            {"show", "a.zip/textures/crab.txt/deep"},
            "\"crab.txt\" is no container that this program knows, so \"deep\" cannot be found in it"},
        RefusedCase{
            "ListWhatIsNone",
            {"list", "plain.txt"},
            "plain.txt: it is no container that this program knows; `operculum identify` tells what it is"},
        RefusedCase{"ListAPipe",
                    {"list", "pipe"},
                    "pipe: Unsupported: reading a pipe or character device; save it to a file first"},
        RefusedCase{"SearchWhatHasNone",
                    {"list", "--search", "plain.txt"},
                    "plain.txt: no containers were found anywhere in it"},
        RefusedCase{
            "UnpackWhatIsNone",
            {"unpack", "plain.txt"},
            "plain.txt: it is no container that this program knows; `operculum identify` tells what it is"},
        RefusedCase{"VerifyWhatIsNone",
                    {"verify", "plain.txt"},
                    "plain.txt: it is no container that this program knows, so there is nothing to verify"},
        RefusedCase{"MountWhatIsMissing",
                    {"mount", "missing.zip", "view"},
                    "missing.zip: cannot open it: No such file or directory"},
        RefusedCase{
            "MountWhatIsNone",
            {"mount", "plain.txt", "view"},
            "plain.txt: it is no container that this program knows; `operculum identify` tells what it is"},
        RefusedCase{
            "MapOfAText",
            {"identify", "plain.txt", "--page", "map.html"},
            "plain.txt: there is no map to draw of it: it is neither firmware nor a disk; --search may find "
            "parts in it"},
        RefusedCase{
            "InstallReportOfNoInstaller",
            {"install-report", "a.zip"},
            "a.zip: no installer that this program knows is in it; `operculum identify` tells what it is"},
        RefusedCase{"ShowNoDescription",
                    {"layout", "show", "nothing"},
                    "nothing: there is no such description; `operculum layout list` shows what there is"},
        RefusedCase{"FindLikeAFolder",
                    {"find", "--like", "a.zip/textures", "a.zip"},
                    "a.zip/textures is a folder; --like wants a file"},
        RefusedCase{"FindInNoCatalogue",
                    {"find", "--catalogue", "none.db", "--match", "*"},
                    "none.db: unable to open database file"},
        RefusedCase{"DigestListOfAnother",
                    {"verify", "a.zip", "--sha256", "plain.txt"},
                    "a.zip: plain.txt has no SHA-256 of \"a.zip\"; expected lines \"DIGEST  NAME\""},
        RefusedCase{
            "NoHashTree",
            {"verify", "a.zip", "--hash-tree", "plain.txt", "--root-hash", "00"},
            "there is no dm-verity superblock in the file, neither at its begin nor behind its data"}),
    [](const auto& one) { return one.param.name; });

INSTANTIATE_TEST_SUITE_P(
    Keys, RefusedCommand,
    ::testing::Values(
        RefusedCase{"PasswordFileThatIsMissing",
                    {"list", "a.zip", "--password-file", "none"},
                    "cannot read the password file none: No such file or directory"},
        RefusedCase{"KeyFileThatIsMissing",
                    {"list", "a.zip", "--key-file", "none"},
                    "cannot read the key file none: No such file or directory"},
        RefusedCase{"KeyThatIsEmpty",
                    {"list", "a.zip", "--key-file", "empty.key"},
                    "empty.key: expected a key of 1 byte to 8 MiB, found an empty file"},
        RefusedCase{"KeyThatIsTooLarge",
                    {"list", "a.zip", "--key-file", "large.key"},
                    "large.key: expected a key of 1 byte to 8 MiB, found more"},
        RefusedCase{
            "KeyWithoutAValue",
            {"list", "a.zip"},
            "keys.toml: line 1: expected a \"password\", a key in \"hex\", or the \"file\" of one, in this "
            "[[key]]",
            {{"XDG_CONFIG_HOME", "config"}}},
        RefusedCase{"KeyThatIsNoTable",
                    {"list", "a.zip"},
                    "keys.toml: expected tables [[key]] with \"for\" and \"password\"",
                    {{"XDG_CONFIG_HOME", "tables"}}},
        RefusedCase{"KeysThatAreNoToml",
                    {"list", "a.zip"},
                    "keys.toml: line 1: Error while parsing table header",
                    {{"XDG_CONFIG_HOME", "broken"}}}),
    [](const auto& one) { return one.param.name; });

INSTANTIATE_TEST_SUITE_P(
    Write, RefusedCommand,
    ::testing::Values(
        RefusedCase{"EditAContainer",
                    {"edit", "a.zip"},
                    "a.zip: it is no file in a container; `operculum list` shows what can be edited"},
        RefusedCase{
            "EditorThatFails",
            {"edit", "a.zip/textures/crab.txt"},
            "the editor \"false\" ended with a failure, so nothing is written; set VISUAL to another one",
            {{"VISUAL", "false"}}},
        RefusedCase{
            "RebuildAFile",
            {"rebuild", "a.zip/tide.lua", "--into", "b.zip", "--remove", "x"},
            "\"tide.lua\" is a file in \"a.zip\" and no container; name the container, and the file with "
            "--set"},
        RefusedCase{"SetAFolder",
                    {"rebuild", "a.zip", "--into", "b.zip", "--set", "textures=plain.txt"},
                    "\"textures\" is a folder and would become a file; remove it and add the new one"},
        RefusedCase{"SetToAFolder",
                    {"rebuild", "a.zip", "--into", "b.zip", "--set", "tide.lua=notes"},
                    "notes is a folder; --from takes what differs in a folder, --add puts one in"},
        RefusedCase{"SetWhatIsMissing",
                    {"rebuild", "a.zip", "--into", "b.zip", "--set", "none=plain.txt"},
                    "there is no entry \"none\"; --add puts a new one in"},
        RefusedCase{"SetTwice",
                    {"rebuild", "a.zip", "--into", "b.zip", "--set", "tide.lua=plain.txt", "--set",
                     "tide.lua=empty.key"},
                    "\"tide.lua\" is set twice"},
        RefusedCase{"AddWhatIsThere",
                    {"rebuild", "a.zip", "--into", "b.zip", "--add", "tide.lua=plain.txt"},
                    "\"tide.lua\" is there already; --set gives it a new content"},
        RefusedCase{"RenameToWhatIsThere",
                    {"rebuild", "a.zip", "--into", "b.zip", "--rename", "tide.lua=textures/eel.txt"},
                    "\"textures/eel.txt\" is there already; remove it first"},
        RefusedCase{"SetAFolderThatIsOnlyInPaths",
                    {"rebuild", "deep.zip", "--into", "b.zip", "--set", "pool=plain.txt"},
                    "\"pool\" is a folder of the container, so a file cannot be its content"},
        RefusedCase{"SetInACutArchive",
                    {"rebuild", "cut.tar", "--into", "b.tar", "--set", "crab.txt=plain.txt"},
                    "are to be kept, but the file ends after 2600; it is cut short"},
        RefusedCase{"SetAnotherName",
                    {"rebuild", "links.tar", "--into", "b.tar", "--set", "twin=plain.txt"},
                    "\"twin\" is another name of \"crab.txt\"; set that one"},
        RefusedCase{"RemoveWhatHasTheData",
                    {"rebuild", "links.tar", "--into", "b.tar", "--remove", "crab.txt"},
                    "taking \"crab.txt\" away, which has the data of \"twin\"; remove or rename both"},
        RefusedCase{"PartsInPlace",
                    {"rebuild", "parts.zip.001", "--in-place", "--set", "crab.txt=plain.txt"},
                    "writing a file of several numbered parts in place; --into writes it as one"},
        RefusedCase{"WithinALink",
                    {"show", "links.tar/latest/within"},
                    "\"latest\" is a link, so \"within\" cannot be found in it"},
        RefusedCase{"ConvertALinkToNothing",
                    {"convert", "lost.tar", "--as", "zip", "--into", "o.zip"},
                    "the hard link \"twin\" leads to \"gone.txt\", which is not there"},
        RefusedCase{"DigestsThatAreTooMany",
                    {"verify", "a.zip", "--sha256", "sums.txt"},
                    "sums.txt is no list of digests: it is too large"},
        RefusedCase{"InFrontOfAName",
                    {"pack", "notes", "--into", "new.zip", "--as", "zip", "--first-among", "odd"},
                    "a name in front of \"!\", made of letters and digits"},
        RefusedCase{"FromAFile",
                    {"rebuild", "a.zip", "--into", "b.zip", "--from", "plain.txt"},
                    "plain.txt is a file; --from takes a folder, and --set PATH=FILE a file"},
        RefusedCase{
            "ConvertWhatIsNone",
            {"convert", "plain.txt", "--as", "zip", "--into", "o.zip"},
            "plain.txt: it is no container that this program knows, so there are no entries to convert"},
        RefusedCase{"RawOfNoDisk",
                    {"convert", "a.zip", "--as", "raw", "--into", "o.raw"},
                    "a.zip: Unsupported: taking a raw disk out of what is no disk image"},
        RefusedCase{"MakeAnUnknownKind",
                    {"convert", "a.zip", "--as", "foo", "--into", "o.foo"},
                    "Unsupported: making a \"foo\"; what can be made: "},
        RefusedCase{"PackWhatIsMissing",
                    {"pack", "none", "--as", "zip", "--into", "o.zip"},
                    "none: No such file or directory"},
        RefusedCase{"PackAPipe",
                    {"pack", "pipe", "--as", "zip", "--into", "o.zip"},
                    "Unsupported: putting a device, pipe or socket into a container: pipe"}),
    [](const auto& one) { return one.param.name; });

}  // namespace
}  // namespace operculum::test

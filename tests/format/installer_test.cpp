// Compound files, Windows Installer databases and executables.
#include <gtest/gtest.h>

#include <fstream>

#include "base/fields.h"
#include "codec/codec.h"
#include "container/format.h"
#include "io/file_source.h"
#include "support/cab_writer.h"
#include "support/cfb_writer.h"
#include "support/fixture.h"
#include "support/msi_writer.h"
#include "support/open.h"
#include "support/pe_writer.h"
#include "support/program.h"
#include "support/refusal.h"
#include "support/sample_tree.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum {
namespace {

using namespace test;

// ---- compound files

std::vector<CfbNode> sample_nodes() {
  return {{.name = u"Contents", .data = noise(10'000)},
          {.name = u"Notes", .storage = true},
          {.name = u"short", .parent = 1, .data = to_bytes("a short stream\n")},
          {.name = u"deeper", .parent = 1, .storage = true},
          {.name = u"\x05Summary", .parent = 3, .data = Bytes(70, 'x')},
          {.name = u"empty"}};
}

struct CompoundFile : testing::TestWithParam<unsigned> {};

TEST_P(CompoundFile, GivesStoragesAndStreams) {
  Held held = open_bytes(make_cfb(sample_nodes(), GetParam()), "thumbs.db");
  ASSERT_EQ(held.format(), "cfb");
  EXPECT_TRUE(held->findings().empty());
  EXPECT_EQ(entry_at(*held, "Notes/deeper").kind, EntryKind::folder);
  EXPECT_EQ(text_at(*held, "Contents"), as_text(noise(10'000)));
  EXPECT_EQ(text_at(*held, "Notes/short"), "a short stream\n");
  EXPECT_EQ(text_at(*held, "Notes/deeper/\x05Summary"), std::string(70, 'x'));
  EXPECT_EQ(text_at(*held, "empty"), "");
}

INSTANTIATE_TEST_SUITE_P(Versions, CompoundFile, testing::Values(3u, 4u));

TEST(CompoundFile, FollowsTheListOfTableSectors) {
  Bytes large = noise(8'000'000);  // more table sectors than the header names
  Held held = open_bytes(make_cfb({{.name = u"large", .data = large}}));
  EXPECT_EQ(text_at(*held, "large"), as_text(large));
}

TEST(CompoundFile, LoopsAreNoticed) {
  Bytes bytes = make_cfb(sample_nodes());
  LittleFields f(bytes, "");
  std::size_t directory = (f.u32(48) + 1) * 512;
  Canvas canvas(bytes);
  canvas.u32(directory + 128 + 68, 1);  // the first entry is its own left neighbour
  EXPECT_TRUE(has_finding(*open_bytes(canvas.take()), "twice"));
  Canvas chain(bytes);
  std::size_t table = (LittleFields(bytes, "").u32(76) + 1) * 512;
  chain.u32(table, 0);  // a sector that follows itself
  Held held = open_bytes(chain.take());
  EXPECT_EQ(text_at(*held, "Contents").size(), 10'000u);  // wrong, but it ends
}

TEST(CompoundFile, SizesThatCannotBeAreRefused) {
  Bytes bytes = make_cfb(sample_nodes(), 4);
  std::size_t directory = (LittleFields(bytes, "").u32(48) + 1) * 4096;
  Canvas canvas(bytes);
  canvas.u64(directory + 128 + 120, std::uint64_t{1} << 50);
  Held held = open_bytes(canvas.take());
  EXPECT_REFUSAL(text_at(*held, "Contents"), Malformed,
                 "Contents: it states more sectors (274877906944) than there are (1024)");
  EXPECT_EQ(text_at(*held, "Notes/short"), "a short stream\n");
}

TEST(CompoundFileFixture, OpensAsAnOfficeSuiteWroteIt) {
  Held held = open_source(open_file(fixture("tide-log.doc")), "tide-log.doc");
  ASSERT_EQ(held.format(), "cfb");
  EXPECT_TRUE(held->findings().empty());
  EXPECT_EQ(held->entries().size(), 6u);
  std::string wide;  // the text is UTF-16
  for (char letter : std::string("Reading 60: 220 cm above chart datum")) wide += {letter, '\0'};
  EXPECT_NE(text_at(*held, "WordDocument").find(wide), std::string::npos);
  EXPECT_EQ(text_at(*held, "1Table").size(), 1635u);  // in the mini stream
  std::string summary = text_at(*held, "\x05SummaryInformation");
  EXPECT_EQ(summary.size(), 172u);
  EXPECT_EQ(summary.substr(0, 2), "\xFE\xFF");
}

TEST(CompoundFile, SurvivesCuts) {
  EXPECT_GT(
      read_every_prefix(
          make_cfb({{.name = u"a", .data = Bytes(5000, 'a')}, {.name = u"b", .data = Bytes(9)}}), "cut.db"),
      0u);
}

// ---- Windows Installer databases

std::map<std::string, Bytes> program_files() {
  return {{"chart.exe", noise(40'000)},
          {"data/tides.dat", Bytes(70'000, 't')},
          {"data/read me.txt", to_bytes("keep dry\n")}};
}

/// Files in a cabinet under their keys, in order.
Bytes cabinet_of(const std::map<std::string, Bytes>& files) {
  CabFolder folder;
  for (const auto& [path, data] : files)
    folder.files.push_back({"f" + std::to_string(folder.files.size() + 1), data});
  return make_cab({folder});
}

constexpr const char* kRoot = "ProgramFiles/Chart Display/";

TEST(Msi, ShowsTheTreeThatIsInstalled) {
  auto files = program_files();
  Held held = open_bytes(make_msi(sample_msi(files, cabinet_of(files), "#disk1.cab")), "setup.bin");
  ASSERT_EQ(held.format(), "msi");
  ASSERT_EQ(held->entries().size(), 3u);
  for (const auto& [path, data] : files) {
    EXPECT_EQ(text_at(*held, kRoot + path), as_text(data)) << path;
    EXPECT_TRUE(entry_at(*held, kRoot + path).is(Entry::has_sum));
  }
  EXPECT_TRUE(held->findings().empty());
}

TEST(Msi, WideReferencesAndLongTextsAreRead) {
  auto files = program_files();
  MsiContents contents = sample_msi(files, cabinet_of(files), "#disk1.cab");
  contents.wide_references = true;
  contents.tables[0].rows.push_back({"Licence", std::string(70'000, 'l')});
  Held held = open_bytes(make_msi(contents));
  EXPECT_EQ(text_at(*held, std::string(kRoot) + "chart.exe"), as_text(files["chart.exe"]));
  Held stored = open_bytes(make_msi(contents), "x.msi", As::file, [](OpenContext& c) { c.view = "stored"; });
  EXPECT_NE(text_at(*stored, "tables/Property.csv").find(std::string(70'000, 'l')), std::string::npos);
}

TEST(Msi, TablesAreCsvAndStreamsHaveTheirNames) {
  auto files = program_files();
  Bytes bytes = make_msi(sample_msi(files, cabinet_of(files), "#disk1.cab"));
  Held held = open_bytes(bytes, "x.msi", As::file, [](OpenContext& c) { c.view = "stored"; });
  EXPECT_EQ(text_at(*held, "tables/Property.csv"),
            "Property,Value\r\nProductName,Saltmarsh Point Chart Display\r\nProductVersion,2.1.0\r\n"
            "Manufacturer,Saltmarsh Point\r\n");
  EXPECT_EQ(text_at(*held, "streams/Binary.Tell").substr(0, 8), "Function");
  EXPECT_EQ(text_at(*held, "tables/Binary.csv"), "Name,Data\r\nTell,Binary.Tell\r\n");
  // and a locator finds them in the other view, too
  Held installed = open_bytes(bytes, "x.msi");
  Lookup found = installed->find("tables/Media.csv");
  ASSERT_EQ(found.kind, Lookup::Kind::entry);
  StreamPtr stream = found.open()->stream();
  EXPECT_EQ(as_text(read_all(*stream, 1000)),
            "DiskId,LastSequence,DiskPrompt,Cabinet,VolumeLabel,Source\r\n1,3,,#disk1.cab,,\r\n");
}

TEST(Msi, CabinetsAndLooseFilesBesideItAreUsed) {
  auto files = program_files();
  TempFolder folder;
  folder.write("setup.msi", make_msi(sample_msi(files, {}, "data1.cab")));
  Ran missing = operculum({"unpack", "setup.msi", "--into", "none"}, folder.path());
  EXPECT_NE(missing.exit_code, 0);
  EXPECT_NE(missing.err.find("\"data1.cab\" is not beside the package"), std::string::npos) << missing.err;
  folder.write("DATA1.CAB", cabinet_of(files));  // case does not count
  Ran ran = operculum({"unpack", "setup.msi", "--into", "out"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(folder.read("out/ProgramFiles/Chart Display/chart.exe"), as_text(files["chart.exe"]));

  MsiContents loose = sample_msi(files, {}, "");
  loose.word_count = 0;
  folder.write("loose/setup.msi", make_msi(loose));
  folder.write("loose/source/chart.exe", files["chart.exe"]);
  folder.write("loose/source/data/tides.dat", files["data/tides.dat"]);
  ran = operculum({"unpack", "loose/setup.msi", "--into", "out2"}, folder.path());
  EXPECT_NE(ran.exit_code, 0);  // one source is missing, and costs only itself
  EXPECT_NE(ran.err.find("source/data/read me.txt"), std::string::npos) << ran.err;
  EXPECT_EQ(folder.read("out2/ProgramFiles/Chart Display/data/tides.dat"), as_text(files["data/tides.dat"]));
}

TEST(Msi, AWrongHashIsFound) {
  auto files = program_files();
  auto other = files;
  other["chart.exe"][100] ^= 1;
  Held held = open_bytes(make_msi(sample_msi(files, cabinet_of(other), "#disk1.cab")));
  EXPECT_REFUSAL(text_at(*held, std::string(kRoot) + "chart.exe"), Malformed,
                 "md5 differs (stored 7ee47df611620c1566437e4367470a45, computed "
                 "dfe2ba7234a5cb529ec00373c05da7f9); the data is damaged");
  EXPECT_EQ(text_at(*held, std::string(kRoot) + "data/read me.txt"), "keep dry\n");
}

TEST(Msi, FoldersThatLieInEachOtherEnd) {
  auto files = program_files();
  MsiContents contents = sample_msi(files, cabinet_of(files), "#disk1.cab");
  contents.tables[1].rows[3] = {"CHART", "D1", "a"};
  contents.tables[1].rows[4] = {"D1", "CHART", "b"};
  Held held = open_bytes(make_msi(contents));
  EXPECT_EQ(held->entries().size(), 3u);
  EXPECT_TRUE(has_finding(*held, "lies in itself"));
}

TEST(Msi, TellsWhatWouldRun) {
  auto files = program_files();
  Held held = open_bytes(make_msi(sample_msi(files, cabinet_of(files), "#disk1.cab")));
  auto plan = held->installation();
  ASSERT_TRUE(plan);
  ASSERT_EQ(plan->actions.size(), 5u);  // what only sets a folder is no action
  EXPECT_EQ(plan->actions[0].name, "Warm");
  EXPECT_EQ(plan->actions[0].when, "deferred, as the system, step 4100");
  EXPECT_EQ(plan->actions[0].command, std::string(kRoot) + "chart.exe --warm");
  EXPECT_EQ(plan->actions[1].kind, InstallAction::Kind::script);
  EXPECT_NE(plan->actions[1].text.find("MsgBox"), std::string::npos);
  EXPECT_EQ(plan->actions[2].kind, InstallAction::Kind::service);
  EXPECT_EQ(plan->actions[2].command, std::string(kRoot) + "chart.exe --listen");
  EXPECT_EQ(plan->actions[3].kind, InstallAction::Kind::autostart);
  EXPECT_EQ(plan->actions[3].command, "\"" + std::string(kRoot) + "chart.exe\" --kiosk");
  EXPECT_EQ(plan->registry[1].value, kRoot);
  EXPECT_EQ(plan->shortcuts[0].path, "Startup/Chart display.lnk");
}

TEST(Msi, SurvivesCuts) {
  std::map<std::string, Bytes> files = {{"a", Bytes(300, 'a')}};
  MsiContents contents = sample_msi(files, cabinet_of(files), "#d");
  Bytes whole = make_msi(contents);
  for (std::size_t size = 0; size < whole.size(); size += 97) {
    try {
      Held held = open_bytes(Bytes(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(size)));
      for (std::size_t i = 0; i < held->entries().size(); ++i) text_of(*held, i);
      held->installation();
    } catch (const Error& error) {
      EXPECT_STRNE(error.what(), "");
    }
  }
}

TEST(Msi, AMergeModuleHasItsCabinetUnderAFixedName) {
  auto files = program_files();
  MsiContents module = sample_msi(files, cabinet_of(files), "#MergeModule.CABinet");
  std::erase_if(module.tables, [](const MsiTable& table) { return table.name == "Media"; });
  const std::string number = ".0A1B2C3D_4E5F_6071_8293_A4B5C6D7E8F9";  // modules put theirs behind keys
  for (MsiTable& table : module.tables) {
    if (table.name != "Directory") continue;
    for (auto& row : table.rows) {
      for (std::size_t column : {0, 1}) {
        if (row[column] == MsiValue("ProgramFilesFolder")) row[column] = "ProgramFilesFolder" + number;
      }
    }
  }
  module.tables.push_back({"ModuleSignature",
                           {{"ModuleID", MsiColumn::Kind::text, true},
                            {"Language", MsiColumn::Kind::number16, true},
                            {"Version"}},
                           {{"Chart" + number, 0, "2.1"}}});
  Held held = open_bytes(make_msi(module), "chart.msm");
  ASSERT_EQ(held.format(), "msi");
  for (const auto& [path, data] : files) EXPECT_EQ(text_at(*held, kRoot + path), as_text(data)) << path;
}

TEST(Msi, WithoutItsTablesTheStreamsAreLeft) {
  Bytes bytes = make_cfb({{.name = u"disk1.cab", .data = cabinet_of(program_files())}}, 3,
                         ByteWriter().u32(0x000C1086).u32(0).u32(0xC0).u32(0x46000000).take());
  Held held = open_bytes(bytes, "update.msp");
  ASSERT_EQ(held.format(), "msi");
  EXPECT_TRUE(has_finding(*held, "its tables cannot be read"));
  EXPECT_EQ(text_at(*held, "disk1.cab").substr(0, 4), "MSCF");
}

TEST(MsiFixture, OpensAsAnotherImplementationWroteIt) {
  std::string path = fixture("chart.msi");
  TempFolder folder;
  Ran ran = operculum({"unpack", path, "--into", "out"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(folder.read("out/ProgramFiles/Saltmarsh Point/Chart Display/Tide tables.dat").size(), 93890u);
  Ran report = operculum({"install-report", path, "--scripts"}, folder.path());
  EXPECT_NE(report.out.find("ChartDisplay, at log-in"), std::string::npos) << report.out;
  EXPECT_NE(report.out.find("MsgBox \"The chart display is ready.\""), std::string::npos);
  EXPECT_NE(report.out.find("Startup/Chart display.lnk -> ProgramFiles/"), std::string::npos);
}

// ---- executables

std::vector<PeResource> sample_resources() {
  Bytes icon = ByteWriter().u32(40).u32(2).u32(4).u16(1).u16(32).zeros(24).zeros(24).take();
  Bytes group =
      ByteWriter().u16(0).u16(1).u16(1).u8(2).u8(2).u8(0).u8(0).u16(1).u16(32).u32(icon.size()).u16(7).take();
  Bytes bitmap = ByteWriter().u32(40).u32(1).u32(1).u16(1).u16(24).zeros(24).u32(0xFFFFFF).take();
  ByteWriter strings;
  strings.u16(0).u16(4);
  for (char c : std::string("ebb\t")) strings.u16(static_cast<unsigned char>(c));
  strings.zeros(28);
  return {{.type = 3, .number = 7, .data = icon},
          {.type = 14, .number = 101, .data = group},
          {.type = 2, .name = "LOGO", .data = bitmap},
          {.type = 6, .number = 2, .data = strings.take()},
          {.type = 16,
           .number = 1,
           .data = make_version({{"ProductName", "Tide Gauge"}, {"CompanyName", "Saltmarsh Point"}})},
          {.type = 24, .number = 1, .data = to_bytes("<assembly/>")},
          {.type = 10, .number = 5, .language = 0x407, .data = to_bytes("Ebbe")},
          {.type = 10, .number = 5, .language = 0x409, .data = to_bytes("ebb")},
          {.type_name = "PACK", .name = "TIDES", .data = ZipBuilder().add("tide.txt", "high\n").build()}};
}

struct Pe : testing::TestWithParam<bool> {};

TEST_P(Pe, GivesResourcesThatOtherProgramsOpen) {
  Held held = open_bytes(make_pe(sample_resources(), {.wide = GetParam()}), "gauge.exe");
  ASSERT_EQ(held.format(), "pe");
  EXPECT_EQ(text_at(*held, "resources/icons/101.ico").substr(0, 6), std::string("\0\0\1\0\1\0", 6));
  EXPECT_EQ(text_at(*held, "resources/icons/101.ico").size(), 6u + 16 + 64);
  EXPECT_EQ(text_at(*held, "resources/bitmaps/LOGO.bmp").substr(0, 2), "BM");
  EXPECT_EQ(text_at(*held, "resources/bitmaps/LOGO.bmp")[10], 54);
  EXPECT_EQ(text_at(*held, "resources/strings.txt"), "17\tebb\\x09\n");
  EXPECT_EQ(text_at(*held, "resources/version/1.txt"),
            "File version: 1.2.3.4\nProduct version: 1.2.0.0\nProductName: Tide Gauge\nCompanyName: "
            "Saltmarsh Point\n");
  EXPECT_EQ(text_at(*held, "resources/manifest/1.xml"), "<assembly/>");
  EXPECT_EQ(text_at(*held, "resources/data/5.0407"), "Ebbe");
  EXPECT_EQ(text_at(*held, "resources/data/5.0409"), "ebb");
  EXPECT_EQ(text_at(*held, "resources/PACK/TIDES").substr(0, 2), "PK");
  EXPECT_TRUE(held->findings().empty());
}

INSTANTIATE_TEST_SUITE_P(Widths, Pe, testing::Values(false, true));

TEST(Pe, FindsWhatIsEmbedded) {
  Bytes cab = make_cab({{{{"tide.txt", to_bytes("high\n")}}}});
  Bytes code(5000, 0xC3);
  std::copy(cab.begin(), cab.end(), code.begin() + 1234);
  const std::string false_mark = "MSCF but not one";
  std::copy(false_mark.begin(), false_mark.end(), code.begin() + 100);
  Bytes overlay = noise(3000);
  overlay.insert(overlay.end(), cab.begin(), cab.end());
  Held held = open_bytes(
      make_pe(sample_resources(), {.code = code, .overlay = overlay, .signature = to_bytes("signed")}));
  std::size_t embedded = 0;
  for (const Entry& entry : held->entries()) {
    if (!entry.path.starts_with("embedded/")) continue;
    ++embedded;
    EXPECT_TRUE(entry.path.ends_with(".cab")) << entry.path;
    EXPECT_EQ(entry.size, cab.size());
  }
  EXPECT_EQ(embedded, 2u);
  EXPECT_EQ(text_at(*held, "embedded/offset-000008d2.cab"), as_text(cab));
  EXPECT_EQ(text_at(*held, "signature/1.p7s").substr(0, 6), "signed");
  EXPECT_EQ(entry_at(*held, "overlay").size, overlay.size() + (8 - overlay.size() % 8) % 8);
}

TEST(Pe, AnArchiveBehindAProgramIsTheArchiveFirst) {
  Bytes zip = ZipBuilder().add("tide.txt", "high\n").build();
  EXPECT_EQ(open_bytes(make_pe({}, {.overlay = zip}), "setup.exe").format(), "zip");
}

TEST(Pe, ACutDownloadIsSaid) {
  Bytes exe = make_pe(sample_resources());
  exe.resize(exe.size() - 700);
  EXPECT_TRUE(has_finding(*open_bytes(exe), "the program is cut short"));
}

TEST(Pe, LoopsAndHugeResourcesCostNothing) {
  Bytes exe = make_pe(sample_resources());
  std::size_t section = 1024 + 512;
  Canvas loop(exe);
  loop.u32(section + 16 + 4, 0x80000000);  // the first type's table is the root
  EXPECT_TRUE(has_finding(*open_bytes(loop.take()), "loop"));
  Held whole = open_bytes(exe);
  std::size_t leaf = 0;
  for (std::size_t at = section; at + 16 < exe.size() && leaf == 0; at += 4) {
    if (LittleFields(exe, "").u32(at + 4) == 11 && LittleFields(exe, "").u32(at + 8) == 0)
      leaf = at;  // the manifest
  }
  ASSERT_NE(leaf, 0u);
  Canvas huge(exe);
  huge.u32(leaf + 4, 0x7FFFFFFF);
  Held held = open_bytes(huge.take());
  EXPECT_TRUE(has_finding(*held, "states 2147483647 bytes"));
  EXPECT_LT(entry_at(*held, "resources/manifest/1.xml").size, exe.size());
}

TEST(Pe, SurvivesCuts) {
  Bytes exe = make_pe(sample_resources());
  for (std::size_t size = 0; size < exe.size(); size += 3) {
    try {
      Held held = open_bytes(Bytes(exe.begin(), exe.begin() + static_cast<std::ptrdiff_t>(size)), "cut.exe");
      if (!held.opened.container) continue;
      for (std::size_t i = 0; i < held->entries().size(); ++i) {
        try {
          text_of(*held, i);
        } catch (const Error& error) {
          EXPECT_STRNE(error.what(), "");
        }
      }
    } catch (const Error& error) {
      EXPECT_STRNE(error.what(), "");
    }
  }
}

// ---- files of no known kind, searched

TEST(SearchedFile, SurvivesCutsAndKeepsWhatIsWhole) {
  Bytes cab = make_cab({{{{"tide.txt", to_bytes("high\n")}}}});
  Bytes zip = ZipBuilder().add("tide.txt", "high\n").build(), packed = encode("gzip", Bytes(2000, 'w'));
  Bytes dump = noise(300);
  std::size_t cab_end = dump.size() + cab.size(), zip_end = cab_end + 50 + zip.size();
  dump.insert(dump.end(), cab.begin(), cab.end());
  dump.resize(cab_end + 50, 0xFF);
  dump.insert(dump.end(), zip.begin(), zip.end());
  dump.resize(zip_end + 70'000, 0xFF);
  dump.insert(dump.end(), packed.begin(), packed.end());
  for (std::size_t size : {dump.size(), zip_end + 69'000, zip_end, zip_end - 9, cab_end, cab_end - 9}) {
    Held held =
        open_by_search(Bytes(dump.begin(), dump.begin() + static_cast<std::ptrdiff_t>(size)), "gauge.dump");
    ASSERT_EQ(held.format(), "searched") << size;
    EXPECT_EQ(text_at(*held, "offset-0000012c.cab"), as_text(cab).substr(0, size - 300)) << size;
    EXPECT_EQ(held->entries().size(), size == dump.size() ? 3u : size > cab_end + 50 ? 2u : 1u) << size;
    if (size >= zip_end) {
      EXPECT_EQ(text_of(*held, 1), as_text(zip)) << size;
    }
  }
  std::size_t listed = 0;
  for (std::size_t size = 300; size < zip_end; ++size) {
    try {
      Held held =
          open_by_search(Bytes(dump.begin(), dump.begin() + static_cast<std::ptrdiff_t>(size)), "gauge.dump");
      if (!held.opened.container) continue;
      for (std::size_t i = 0; i < held->entries().size(); ++i) text_of(*held, i);
      ++listed;
    } catch (const Error& error) {
      EXPECT_STRNE(error.what(), "");
    }
  }
  EXPECT_GT(listed, zip_end - cab_end);
}

// ---- programs that carry a container

TEST(Carrier, AScriptWithAnArchiveBehindIt) {
  Bytes script = to_bytes("#!/bin/sh\ntail -n +4 \"$0\" | tar xz\nexit\n");
  Bytes packed = encode("gzip", to_bytes(std::string(3000, 'w') + "tides"));
  script.insert(script.end(), packed.begin(), packed.end());
  Held held = open_bytes(script, "setup.run");
  ASSERT_EQ(held.format(), "carrier");
  EXPECT_EQ(text_at(*held, "script.sh"), "#!/bin/sh\ntail -n +4 \"$0\" | tar xz\nexit\n");
  EXPECT_EQ(held->entries()[1].path, "offset-00000028.gz");
  EXPECT_EQ(held->entries()[1].size, packed.size());
}

TEST(Carrier, APlainScriptIsNone) {
  EXPECT_EQ(open_bytes(to_bytes("#!/bin/sh\necho tide\n"), "x.sh").format(), "none");
}

TEST(Carrier, AnElfProgramWithAnImageBehindIt) {
  Canvas elf(256);
  elf.text(0,
           "\x7F"
           "ELF");
  elf[4] = 2;
  elf[5] = 1;
  elf.u64(32, 64);  // one segment, which covers the file
  elf.u16(54, 56);
  elf.u16(56, 1);
  elf.u64(64 + 32, 256);
  Bytes program = elf.take();
  EXPECT_EQ(open_bytes(program).format(), "none");
  Bytes cab = make_cab({{{{"tide.txt", to_bytes("high\n")}}}});
  program.insert(program.end(), cab.begin(), cab.end());
  Held held = open_bytes(program, "kiosk");
  ASSERT_EQ(held.format(), "carrier");
  EXPECT_EQ(text_at(*held, "offset-00000100.cab"), as_text(cab));
}

}  // namespace
}  // namespace operculum

// install-report, kinds and views, as people use them.
#include <gtest/gtest.h>

#include <algorithm>

#include "codec/codec.h"
#include "support/cab_writer.h"
#include "support/json.h"
#include "support/msi_writer.h"
#include "support/package_writer.h"
#include "support/pe_writer.h"
#include "support/program.h"
#include "support/squashfs_writer.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum {
namespace {

using namespace test;

/// An executable that holds a database that holds a cabinet.
Bytes installer() {
  std::map<std::string, Bytes> files = {{"chart.exe", noise(4000)}, {"data/<tides>.dat", Bytes(7000, 't')}};
  CabFolder folder;
  for (const auto& [path, data] : files)
    folder.files.push_back({"f" + std::to_string(folder.files.size() + 1), data});
  Bytes package = make_msi(sample_msi(files, make_cab({folder}), "#disk1.cab"));
  return make_pe({{.type = 10, .number = 101, .data = package}});
}

TEST(InstallReport, LooksIntoAnExecutable) {
  TempFolder folder;
  folder.write("setup.exe", installer());
  Ran ran = operculum({"install-report", "setup.exe"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_NE(ran.out.find("setup.exe/resources/data/101\n"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("4,000  ProgramFiles/Chart Display/chart.exe"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("service        TideFeed (\"Tide feed\"), automatically"), std::string::npos)
      << ran.out;
  EXPECT_NE(ran.out.find("HKLM\\Software\\Saltmarsh Point"), std::string::npos) << ran.out;
  EXPECT_EQ(ran.out.find("MsgBox"), std::string::npos);
  Ran scripts = operculum({"install-report", "--scripts", "setup.exe/resources/data/101"}, folder.path());
  EXPECT_NE(scripts.out.find("MsgBox"), std::string::npos) << scripts.out;
}

TEST(InstallReport, JsonHasEverything) {
  TempFolder folder;
  folder.write("setup.exe", installer());
  Ran ran = operculum({"install-report", "setup.exe", "--json"}, folder.path());
  auto record = parse_json(ran.out);
  EXPECT_EQ(record["record"], "install");
  EXPECT_EQ(record["files"], 2);
  EXPECT_EQ(record["on_disk"], 12288);
  EXPECT_EQ(record["actions"].size(), 5u);
  EXPECT_EQ(record["places"][0]["place"], "ProgramFiles");
  EXPECT_EQ(record["registry"].size(), 2u);
  EXPECT_EQ(record["shortcuts"][0]["path"], "Startup/Chart display.lnk");
}

TEST(InstallReport, RemovalIsAFlatList) {
  TempFolder folder;
  folder.write("setup.exe", installer());
  Ran ran = operculum({"install-report", "setup.exe", "--removal"}, folder.path());
  EXPECT_EQ(ran.out,
            "ProgramFiles/Chart Display/chart.exe\nProgramFiles/Chart Display/data/<tides>.dat\n"
            "Startup/Chart display.lnk\nProgramFiles/Chart Display/data/ (if empty)\nProgramFiles/Chart "
            "Display/ (if empty)\n");
}

TEST(InstallReport, ThePageStandsAloneAndNamesStayText) {
  TempFolder folder;
  folder.write("setup.exe", installer());
  Ran ran = operculum({"install-report", "setup.exe", "--page", "report.html"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  std::string page = folder.read("report.html");
  EXPECT_NE(page.find("data/&lt;tides&gt;.dat"), std::string::npos);
  EXPECT_EQ(page.find("<tides>"), std::string::npos);
  EXPECT_EQ(page.find("http"), std::string::npos);
  EXPECT_EQ(page.find("<script"), std::string::npos);
  Ran again = operculum({"install-report", "setup.exe", "--page", "report.html"}, folder.path());
  EXPECT_NE(again.exit_code, 0);  // nothing is replaced
  EXPECT_EQ(folder.read("report.html"), page);
  EXPECT_EQ(
      operculum({"install-report", "setup.exe", "setup.exe", "--page", "two.html"}, folder.path()).exit_code,
      2);
}

TEST(InstallReport, SystemPackagesTellPlacesAndOwners) {
  TempFolder folder;
  SampleTree tree = {{.path = "etc", .kind = EntryKind::folder},
                     {.path = "etc/cron.daily", .kind = EntryKind::folder},
                     {.path = "etc/cron.daily/tides", .data = to_bytes("#!/bin/sh\n"), .mode = 0755},
                     {.path = "usr", .kind = EntryKind::folder},
                     {.path = "usr/share", .kind = EntryKind::folder},
                     {.path = "usr/share/chart", .kind = EntryKind::folder},
                     {.path = "usr/share/chart/tide.txt", .data = to_bytes("high\n")},
                     {.path = "usr/share/chart-display", .kind = EntryKind::folder},
                     {.path = "usr/share/chart-display/own.txt", .data = to_bytes("low\n")}};
  folder.write("chart.rpm", make_rpm(tree, {.post = "echo ready\n"}));
  Ran ran = operculum({"install-report", "chart.rpm"}, folder.path());
  EXPECT_NE(ran.out.find("scheduled task tides, at set times"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("0755 root:root"), std::string::npos);
  EXPECT_NE(ran.out.find("/usr/share/chart/tide.txt\n"), std::string::npos);
  EXPECT_NE(ran.out.find("  /usr/share/chart-display/ (if empty)\n"), std::string::npos)
      << "the package's own folder";
  EXPECT_EQ(ran.out.find("  /usr/share/chart/ (if empty)"), std::string::npos)
      << "whose that is nobody knows";
  EXPECT_EQ(ran.out.find("  /etc/cron.daily/ (if empty)"), std::string::npos) << "the system's own";
  EXPECT_NE(ran.out.find("remove the scheduled task tides"), std::string::npos) << ran.out;
  folder.write("chart.deb", make_deb(tree, "#!/bin/sh\necho ready\n"));
  ran = operculum({"install-report", "chart.deb", "--scripts"}, folder.path());
  EXPECT_NE(ran.out.find("| echo ready"), std::string::npos) << ran.out;
}

TEST(InstallReport, SaysWhenThereIsNoInstaller) {
  TempFolder folder;
  folder.write("pack.zip", ZipBuilder().add("tide.txt", "high\n").build());
  Ran ran = operculum({"install-report", "pack.zip"}, folder.path());
  EXPECT_EQ(ran.exit_code, 3) << ran.err;
  EXPECT_NE(ran.err.find("no installer"), std::string::npos);
}

TEST(Installer, OneCommandMakesAPortableFolder) {
  TempFolder folder;
  folder.write("setup.exe", installer());
  Ran found = operculum({"identify", "setup.exe"}, folder.path());
  EXPECT_NE(found.out.find("next      operculum unpack setup.exe/resources/data/101/\n"), std::string::npos)
      << found.out;
  Ran ran = operculum({"unpack", "setup.exe/resources/data/101/", "--into", "portable"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(folder.read("portable/ProgramFiles/Chart Display/chart.exe"), as_text(noise(4000)));
  Ran deep =
      operculum({"unpack", "setup.exe", "--deep", "--match", "**/*.dat", "--into", "deep"}, folder.path());
  EXPECT_EQ(deep.exit_code, 0) << deep.err;
  EXPECT_EQ(folder.read("deep/resources/data/101/ProgramFiles/Chart Display/data/<tides>.dat"),
            std::string(7000, 't'));
}

/// A file of no known kind in which a cabinet, a packed log, a file system, two archives and a tape lie.
Bytes dump_with_containers() {
  Bytes dump = noise(5000);
  for (const Bytes& part :
       {make_cab({{{{"tide.txt", to_bytes("high\n")}}}}), noise(700),
        encode("gzip", to_bytes(std::string(2000, 'l'))), noise(99),
        make_squashfs({{.path = "gauge.conf", .data = to_bytes("zero = 12\n")}}),
        ZipBuilder().add("first.txt", "1").build(), noise(90), ZipBuilder().add("second.txt", "2").build(),
        noise(300), TarBuilder().add({.name = "ebb.txt", .data = to_bytes("low\n")}).build()})
    dump.insert(dump.end(), part.begin(), part.end());
  return dump;
}

TEST(Search, FindsContainersAnywhereWhenAsked) {
  TempFolder folder;
  Bytes dump = dump_with_containers();
  folder.write("gauge.dump", dump);
  folder.write("front.dump", ByteView(dump).first(6000));  // with the cabinet alone
  Ran plain = operculum({"list", "front.dump"}, folder.path());
  EXPECT_EQ(plain.exit_code, 3);
  EXPECT_EQ(plain.out, "");
  Ran identified = operculum({"identify", "front.dump"}, folder.path());
  EXPECT_NE(identified.out.find("operculum list --search front.dump"), std::string::npos) << identified.out;
  Ran listed = operculum({"list", "--search", "--paths", "gauge.dump"}, folder.path());
  EXPECT_EQ(listed.exit_code, 0) << listed.err;
  EXPECT_TRUE(listed.out.starts_with("offset-00001388.cab\noffset-")) << listed.out;
  EXPECT_EQ(std::count(listed.out.begin(), listed.out.end(), '\n'), 6) << listed.out;
  EXPECT_NE(listed.err.find(".tar does not state where it ends"), std::string::npos) << listed.err;
  Ran shown = operculum({"show", "--search", "gauge.dump/offset-00001388.cab/tide.txt"}, folder.path());
  EXPECT_EQ(shown.out, "high\n") << shown.err;
  Ran unpacked = operculum({"unpack", "--search", "--deep", "gauge.dump", "--into", "out"}, folder.path());
  EXPECT_EQ(unpacked.exit_code, 0) << unpacked.err;
  std::string files = folder.listing("out");
  for (const char* name : {"tide.txt", "gauge.conf", "first.txt", "second.txt", "ebb.txt"})
    EXPECT_NE(files.find(name), std::string::npos) << name << "\n" << files;
}

TEST(Search, LeavesKnownFilesAsTheyAre) {
  TempFolder folder;
  folder.write("tides.txt", "high water at six\n");
  folder.write("noise.bin", noise(300));
  for (const char* name : {"tides.txt", "noise.bin"}) {
    Ran ran = operculum({"list", "--search", name}, folder.path());
    EXPECT_EQ(ran.exit_code, 3) << name << ran.err;
  }
}

TEST(Views, AreAskedForByName) {
  TempFolder folder;
  SampleTree tree = {{.path = "tide.txt", .data = to_bytes("high\n")}};
  folder.write("chart.deb", make_deb(tree, ""));
  EXPECT_EQ(operculum({"list", "--paths", "chart.deb"}, folder.path()).out, "tide.txt\n");
  EXPECT_EQ(operculum({"list", "--paths", "--view", "stored", "chart.deb"}, folder.path()).out,
            "debian-binary\ncontrol.tar.gz\ndata.tar.xz\n");
  EXPECT_EQ(operculum({"show", "chart.deb/debian-binary"}, folder.path()).out, "2.0\n");
  EXPECT_EQ(operculum({"show", "chart.deb/data.tar.xz/tide.txt"}, folder.path()).out, "high\n");
}

// ---- kinds

Bytes mixed_pack() {
  return ZipBuilder()
      .add("crab.ppm", "P6\n1 1\n255\nabc")
      .add("tide.txt", "high water at noon\n")
      .add("run.sh", "#!/bin/sh\necho tide\n")
      .stored("inner.zip", ZipBuilder().add("deep.txt", "low water at six\n").build())
      .build();
}

TEST(Kinds, AreListed) {
  TempFolder folder;
  folder.write("pack.skin", mixed_pack());
  Ran ran = operculum({"list", "--kinds", "pack.skin"}, folder.path());
  EXPECT_NE(ran.out.find("image      crab.ppm"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("script     run.sh"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("container  inner.zip"), std::string::npos) << ran.out;
  Ran json = operculum({"list", "--kinds", "--json", "pack.skin"}, folder.path());
  EXPECT_NE(json.out.find("\"content\":\"text\""), std::string::npos) << json.out;
}

TEST(Kinds, ProgramsAreNoContainersToAPerson) {
  TempFolder folder;
  folder.write("pack.zip", ZipBuilder().stored("chart.exe", make_pe({})).build());
  Ran ran = operculum({"list", "--kinds", "pack.zip"}, folder.path());
  EXPECT_NE(ran.out.find("executable  chart.exe"), std::string::npos) << ran.out;
}

TEST(Kinds, ChooseWhatIsUnpacked) {
  TempFolder folder;
  folder.write("pack.skin", mixed_pack());
  Ran ran = operculum({"unpack", "pack.skin", "--only-kind", "image,text", "--into", "out"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(folder.listing("out"), "crab.ppm tide.txt");
  EXPECT_EQ(folder.read("out/tide.txt"), "high water at noon\n");
  ran = operculum({"unpack", "pack.skin", "--deep", "--only-kind", "text", "--into", "deep"}, folder.path());
  EXPECT_EQ(folder.listing("deep"), "inner.zip/ inner.zip/deep.txt tide.txt");
  EXPECT_EQ(operculum({"unpack", "pack.skin", "--only-kind", "fish"}, folder.path()).exit_code, 2);
}

TEST(Kinds, StopBeforeAnythingIsWritten) {
  TempFolder folder;
  folder.write("pack.skin", mixed_pack());
  Ran ran = operculum({"unpack", "pack.skin", "--refuse-kind", "script,executable", "--into", "out"},
                      folder.path());
  EXPECT_NE(ran.exit_code, 0);
  EXPECT_NE(ran.err.find("nothing was unpacked, for 1 file is of a refused kind: run.sh (script)"),
            std::string::npos)
      << ran.err;
  EXPECT_FALSE(folder.has("out"));
  ran = operculum({"unpack", "pack.skin", "--refuse-kind", "script", "--except", "*.sh", "--into", "out"},
                  folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
}

TEST(Kinds, WorkInSolidArchives) {
  TempFolder folder;
  std::vector<CabFile> files;
  for (int i = 0; i < 60; ++i) {
    Bytes data = i % 2 == 0 ? noise(9000, static_cast<std::uint32_t>(i)) : Bytes(9000, 'a');
    files.push_back({"f" + std::to_string(i), data});
  }
  folder.write("pack.cab", make_cab({{files, CabMethod::lzx}, {files, CabMethod::mszip}}));
  Ran ran = operculum({"unpack", "pack.cab", "--only-kind", "text", "--into", "out"}, folder.path());
  EXPECT_EQ(ran.exit_code, 0) << ran.err;
  EXPECT_EQ(folder.read("out/f59"), std::string(9000, 'a'));
  EXPECT_FALSE(folder.has("out/f58"));
}

}  // namespace
}  // namespace operculum

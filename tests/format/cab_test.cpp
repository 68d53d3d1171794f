// Cabinets: every method, reserved areas, names, checksums, sets.
#include <gtest/gtest.h>

#include <algorithm>

#include "support/cab_writer.h"
#include "support/fixture.h"
#include "support/open.h"
#include "support/program.h"
#include "support/refusal.h"
#include "support/sample_tree.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

using namespace test;

std::vector<CabFile> sample_files() {
  Bytes chart;
  for (int i = 0; i < 9000; ++i) {
    std::string line = "depth " + std::to_string(i * 7 % 311) + " m\n";
    chart.insert(chart.end(), line.begin(), line.end());
  }
  return {{"charts\\harbour.txt", chart},
          {"empty.dat", {}},
          {"charts\\noise.bin", noise(90'000)},
          {"read me.txt", to_bytes("keep dry\n"), 0x21},
          {"run.sh", to_bytes("#!/bin/sh\n"), 0x40}};
}

void expect_files(Container& container, const std::vector<CabFile>& files) {
  std::span<const Entry> entries = container.entries();
  ASSERT_EQ(entries.size(), files.size());
  for (std::size_t i = 0; i < files.size(); ++i) {
    std::string path = files[i].name;
    std::replace(path.begin(), path.end(), '\\', '/');
    EXPECT_EQ(entries[i].path, path);
    EXPECT_EQ(entries[i].size, files[i].data.size());
    EXPECT_EQ(read_all(*container.content(i)->stream(), 1 << 24), files[i].data) << path;
  }
}

struct CabCase {
  CabMethod method;
  unsigned window_bits;
  std::string_view name;
};
struct Cab : testing::TestWithParam<CabCase> {};

TEST_P(Cab, GivesItsFiles) {
  std::vector<CabFile> files = sample_files();
  Bytes cab = make_cab({{files, GetParam().method, GetParam().window_bits}});
  Held held = open_bytes(cab, "charts.pool");
  ASSERT_EQ(held.format(), "cab");
  expect_files(*held, files);
  EXPECT_EQ(held->entries()[0].method, GetParam().name);
  EXPECT_TRUE(held->entries()[0].is(Entry::has_sum));
  EXPECT_EQ(held->entries()[3].mode, 0444u);
  EXPECT_EQ(held->entries()[4].mode, 0755u);
  EXPECT_TRUE(held->findings().empty());
  // In reverse order each file is read from the start again.
  for (std::size_t i = files.size(); i-- > 0;)
    EXPECT_EQ(read_all(*held->content(i)->stream(), 1 << 24), files[i].data);
}

TEST_P(Cab, DamageCostsWhatLiesBehindIt) {
  std::vector<CabFile> files = sample_files();
  Bytes cab =
      make_cab({{files, GetParam().method, GetParam().window_bits}, {{{"other.txt", to_bytes("sound\n")}}}});
  cab[cab.size() - 20'000] ^= 0xFF;
  Held held = open_bytes(cab);
  EXPECT_EQ(text_at(*held, "charts/harbour.txt"), as_text(files[0].data));
  EXPECT_EQ(text_at(*held, "other.txt"), "sound\n");
  for (int again = 0; again < 2; ++again)
    EXPECT_REFUSAL(
        text_at(*held, "read me.txt"), Malformed,
        "data block 6 of the folder at offset 223 of \"sample\" does not fit its checksum (stored ");
}

TEST_P(Cab, SurvivesCuts) {
  std::vector<CabFile> files = {{"a.txt", to_bytes("one two three one two three\n")}, {"b.bin", noise(600)}};
  EXPECT_GT(read_every_prefix(make_cab({{files, GetParam().method, GetParam().window_bits}}), "cut.cab"), 0u);
}

INSTANTIATE_TEST_SUITE_P(
    Methods, Cab,
    testing::Values(CabCase{CabMethod::stored, 0, "stored"}, CabCase{CabMethod::mszip, 0, "mszip"},
                    CabCase{CabMethod::lzx, 15, "lzx"}, CabCase{CabMethod::lzx, 21, "lzx"},
                    CabCase{CabMethod::quantum, 12, "quantum"}, CabCase{CabMethod::quantum, 21, "quantum"}));

TEST(CabRecords, ReservedAreasAreSteppedOver) {
  std::vector<CabFile> files = sample_files();
  expect_files(
      *open_bytes(make_cab({{files}}, {.header_reserve = 20, .folder_reserve = 3, .data_reserve = 5})),
      files);
}

TEST(CabRecords, NamesAreDecoded) {
  std::vector<CabFile> files = {{"f\xC3\xBCr.txt", to_bytes("a"), 0xA0},
                                {"caf\xE9.txt", to_bytes("b"), 0x20}};
  Held held = open_bytes(make_cab({{files}}));
  EXPECT_EQ(paths_of(*held), "f\xC3\xBCr.txt caf\xC3\xA9.txt");
  Held other =
      open_bytes(make_cab({{files}}), "x.cab", As::file, [](OpenContext& c) { c.names_in = "CP437"; });
  EXPECT_EQ(other->entries()[1].path, "caf\xCE\x98.txt");
}

TEST(CabRecords, WithoutChecksumsDamageIsFoundByTheCodecOnly) {
  std::vector<CabFile> files = {{"a.txt", Bytes(1000, 'a')}};
  Bytes cab = make_cab({{files, CabMethod::stored}}, {.sums = false});
  cab[cab.size() - 10] = 'b';
  Held held = open_bytes(cab);
  EXPECT_FALSE(held->entries()[0].is(Entry::has_sum));
  EXPECT_EQ(text_at(*held, "a.txt").size(), 1000u);
}

TEST(CabRecords, ACutDownloadIsSaidFirst) {
  Bytes cab = make_cab({{sample_files()}});
  cab.resize(cab.size() / 2);
  Held held = open_bytes(cab);
  ASSERT_FALSE(held->findings().empty());
  EXPECT_NE(held->findings()[0].text.find("cut short: it states"), std::string::npos);
  EXPECT_REFUSAL(
      text_at(*held, "run.sh"), CutShort,
      "data block 5 of the folder at offset 189 of \"sample\" is not all there; the cabinet is cut short");
}

TEST(CabRecords, BytesBehindTheEndAreTold) {
  Bytes cab = make_cab({{sample_files()}});
  cab.resize(cab.size() + 100);
  EXPECT_TRUE(has_finding(*open_bytes(cab), "100 bytes lie behind the end"));
}

// ---- sets

std::map<std::string, Bytes> set_of(const std::vector<CabFile>& files, CabMethod method, std::size_t most) {
  std::map<std::string, Bytes> set;
  std::vector<Bytes> cabinets =
      make_cab_set({{files, method, 16}, {{{"last.txt", to_bytes("last\n")}}}}, most);
  for (std::size_t i = 0; i < cabinets.size(); ++i)
    set["tide" + std::to_string(i + 1) + ".cab"] = cabinets[i];
  return set;
}

struct CabSet : testing::TestWithParam<CabMethod> {};

TEST_P(CabSet, IsJoinedFromAnyOfItsCabinets) {
  std::vector<CabFile> files = sample_files(), all = files;
  all.push_back({"last.txt", to_bytes("last\n")});
  auto set = set_of(files, GetParam(), 41'000);
  ASSERT_GE(set.size(), 3u);
  for (const auto& [name, bytes] : set) {
    Held held = open_beside(name, set);
    expect_files(*held, all);
    EXPECT_TRUE(held->findings().empty()) << name;
  }
}

TEST_P(CabSet, AMissingCabinetIsNamedAndTheRestIsRead) {
  std::vector<CabFile> files = sample_files();
  auto set = set_of(files, GetParam(), 41'000);
  std::string last = "tide" + std::to_string(set.size()) + ".cab";
  auto without_last = set;
  without_last.erase(last);
  Held held = open_beside("tide1.cab", without_last);
  EXPECT_TRUE(has_finding(*held, last));
  EXPECT_EQ(text_at(*held, "charts/harbour.txt"), as_text(files[0].data));
  auto without_first = set;
  without_first.erase("tide1.cab");
  Held tail = open_beside(last, without_first);
  EXPECT_TRUE(has_finding(*tail, "tide1.cab"));
  EXPECT_EQ(text_at(*tail, "last.txt"), "last\n");
}

INSTANTIATE_TEST_SUITE_P(Methods, CabSet,
                         testing::Values(CabMethod::stored, CabMethod::mszip, CabMethod::lzx));

TEST(CabSet, ACabinetOfAnotherSetIsNotTaken) {
  auto set = set_of(sample_files(), CabMethod::mszip, 41'000);
  set["tide2.cab"][32] ^= 1;  // its set number
  Held held = open_beside("tide1.cab", set);
  EXPECT_TRUE(has_finding(*held, "of set"));
}

// ---- made by another implementation, see tests/fixtures/installer

TEST(CabFixtures, OpenAndAgree) {
  TempFolder folder;
  for (const char* name : {"mszip.cab", "first.cab", "second.cab"}) {
    Ran ran = operculum({"unpack", fixture(name), "--into", folder.path(name)}, folder.path());
    EXPECT_EQ(ran.exit_code, 0) << name << ran.err;
    for (const char* file : {"chart.exe", "tides.dat", "readme.txt"})
      EXPECT_EQ(folder.read(std::string(name) + "/" + file), folder.read(std::string("mszip.cab/") + file))
          << name;
  }
  EXPECT_EQ(folder.read("mszip.cab/tides.dat").size(), 93890u);
  EXPECT_EQ(folder.read("mszip.cab/tides.dat").substr(0, 8), "gauge 0:");
}

}  // namespace
}  // namespace operculum

// APFS: containers that a driver of the Linux kernel wrote, and made-up ones for what it cannot write.
#include <gtest/gtest.h>

#include "base/error.h"
#include "support/apfs_writer.h"
#include "support/kernel_images.h"
#include "support/system_tools.h"

namespace operculum {
namespace {

using namespace test;

// ---- written by the driver

struct Driver : testing::TestWithParam<const char*> {};

TEST_P(Driver, WroteTheTree) {
  KernelImages images("apfs");
  Held held = images.open(GetParam());
  ASSERT_EQ(held.format(), "apfs");
  EXPECT_EQ(compare_tree(held, kernel_tree(255, true)), "");
  EXPECT_EQ(fact(*held, "label"), "gauge");
  const Entry& run = entry_at(*held, "gauge/run");
  EXPECT_EQ(run.mode, 0755u);
  EXPECT_EQ(run.modified.seconds, 1772373908);
  EXPECT_EQ(run.extra->user_id, 1000u);
  Lookup found = held->find("again.txt");
  ASSERT_EQ(found.kind, Lookup::Kind::entry);
  EXPECT_EQ(found.entry->extra->attributes.at(0), std::make_pair(std::string("origin"), std::string("mole")));
  Lookup::Kind other_case =
      std::string(GetParam()) == "apfs.img" ? Lookup::Kind::entry : Lookup::Kind::nothing;
  EXPECT_EQ(held->find("GAUGE/Run").kind, other_case);
  EXPECT_LT(entry_at(*held, "holes.bin").stored_size, 20'000u);
  EXPECT_TRUE(held->findings().empty()) << held->findings()[0].text;
}

INSTANTIATE_TEST_SUITE_P(Apfs, Driver, testing::Values("apfs.img", "apfs-case.img"),
                         [](const auto& one) { return one.index == 0 ? "IgnoresCase" : "KeepsCase"; });

TEST(ApfsDriver, WroteSnapshots) {
  KernelImages images("apfs");
  Held now = images.open("apfs-snap.img");
  EXPECT_EQ(text_at(*now, "tide"), "high water\n");
  EXPECT_EQ(text_at(*now, "now"), "calm\n");
  EXPECT_EQ(now->find("pools/the reading of pool 7 in the morning").kind, Lookup::Kind::nothing);
  Held then = images.open("apfs-snap.img", [](OpenContext& context) { context.view = "snapshots"; });
  EXPECT_EQ(text_at(*then, "before the storm/tide"), "low\n");
  EXPECT_EQ(text_at(*then, "before the storm/pools/the reading of pool 7 in the morning"), "pool 7\n");
  EXPECT_EQ(text_at(*then, "after/tide"), "high water\n");
  EXPECT_EQ(text_at(*then, "after/seven"), "pool 7\n");
  EXPECT_EQ(then->find("after/now").kind, Lookup::Kind::nothing);
  EXPECT_TRUE(then->findings().empty());
}

// ---- made up

SampleTree tree_with_links() {
  SampleTree tree = sample_tree_with_links();
  tree.push_back({.path = "gauge/port", .kind = EntryKind::character_device});
  std::string holes(40'960, '\0');
  holes.replace(0, 5, "begin");
  tree.push_back({.path = "holes.bin", .data = to_bytes(holes)});
  return tree;
}

Held open_locked(const Bytes& image, const std::string& passphrase) {
  return open_bytes(image, "disk.img", As::file, [&](OpenContext& context) {
    if (!passphrase.empty()) context.keys.add({passphrase, "the test"});
  });
}

struct Kind {
  const char* name;
  bool ignores_case, sealed;
  const char* passphrase;
};
struct ApfsVolumes : testing::TestWithParam<Kind> {};

TEST_P(ApfsVolumes, AreReadInFull) {
  const Kind& kind = GetParam();
  ApfsVolume volume{.tree = tree_with_links(),
                    .ignores_case = kind.ignores_case,
                    .sealed = kind.sealed,
                    .passphrase = kind.passphrase};
  volume.resource = "gauge/run";
  volume.packed_kept = "crab.txt";
  volume.packed_fork = "gauge/table.csv";
  volume.attributed = "nothing.bin";
  Held held = open_locked(make_apfs({volume}), kind.passphrase);
  EXPECT_EQ(compare_tree(held, volume.tree, "gauge/run:rsrc"), "");
  EXPECT_EQ(text_at(*held, "gauge/run:rsrc"), "fork of gauge/run");
  EXPECT_EQ(entry_at(*held, "crab.txt").method, "zlib");
  EXPECT_EQ(entry_at(*held, "gauge/table.csv").method, "zlib");
  EXPECT_LT(entry_at(*held, "gauge/table.csv").stored_size, entry_at(*held, "gauge/table.csv").size);
  EXPECT_EQ(entry_at(*held, "nothing.bin").extra->attributes.at(0).second, "seven");
  EXPECT_EQ(entry_at(*held, "holes.bin").stored_size, 4096u);
  EXPECT_EQ(entry_at(*held, "gauge/port").extra->device_major, 4u);
  EXPECT_EQ(entry_at(*held, "gauge/port").extra->device_minor, 66u);
  EXPECT_EQ(held->find("gauge/run:rsrc").kind, Lookup::Kind::entry);
}

INSTANTIATE_TEST_SUITE_P(Apfs, ApfsVolumes,
                         testing::Values(Kind{"Plain", false, false, ""},
                                         Kind{"IgnoresCase", true, false, ""},
                                         Kind{"Sealed", false, true, ""},
                                         Kind{"Encrypted", false, false, "ebb and flow"}),
                         [](const auto& one) { return std::string(one.param.name); });

TEST(Apfs, SeveralVolumesAreFolders) {
  Bytes image = make_apfs(
      {{.name = "Exhibits", .tree = {{.path = "crab.txt", .data = to_bytes("pinch\n")}}, .role = 0x40},
       {.name = "Exhibits", .tree = {{.path = "eel.txt", .data = to_bytes("slip\n")}}},
       {.name = "", .tree = {}}});
  Held held = open_bytes(image);
  EXPECT_EQ(text_at(*held, "Exhibits/crab.txt"), "pinch\n");
  EXPECT_EQ(text_at(*held, "Exhibits 2/eel.txt"), "slip\n");
  EXPECT_EQ(entry_at(*held, "volume 3").kind, EntryKind::folder);
  EXPECT_EQ(fact(*held, "volume"), "Exhibits: 1 file, 0 folders, role: data");
}

TEST(Apfs, AWrongPassphraseIsNotDamage) {
  Bytes image = make_apfs({{.tree = sample_tree(), .passphrase = "ebb and flow"}});
  Held none = open_locked(image, "");
  EXPECT_EQ(fact(*none, "volume"), "66 files, 5 folders, encrypted");
  auto told = [](Held& held) {
    held->entries();
    return held->findings().empty() ? std::string() : held->findings()[0].text;
  };
  EXPECT_NE(told(none).find("password"), std::string::npos) << told(none);
  Held wrong = open_locked(image, "flow and ebb");
  EXPECT_NE(told(wrong).find("password"), std::string::npos) << told(wrong);
  EXPECT_EQ(told(wrong).find("checksum"), std::string::npos) << told(wrong);
}

TEST(Apfs, ARightPassphraseAndADamagedKeyAreToldApart) {
  Held held = open_locked(
      make_apfs({{.tree = sample_tree(), .passphrase = "ebb and flow", .lost_key = true}}), "ebb and flow");
  held->entries();
  EXPECT_TRUE(
      has_finding(*held, "the passphrase is right, but the volume's key in the container is damaged"));
}

TEST(Apfs, ADamagedSuperblockIsReplacedByTheNewest) {
  Bytes image = make_apfs({{.tree = sample_tree()}});
  image[200] ^= 1;
  Held held = open_bytes(image);
  EXPECT_TRUE(has_finding(*held, "the newest one of the checkpoints was used"));
  EXPECT_EQ(text_at(*held, "crab.txt"), "pinch\n");
}

TEST(Apfs, ADamagedVolumeCostsNoOther) {
  Bytes image = make_apfs({{.name = "Whole", .tree = {{.path = "crab.txt", .data = to_bytes("pinch\n")}}},
                           {.name = "Damaged", .tree = sample_tree()}});
  std::string_view all = as_text(image);
  std::size_t at = all.rfind("APSB");
  ASSERT_NE(at, std::string_view::npos);
  image[at + 60] ^= 1;
  Held held = open_bytes(image);
  EXPECT_TRUE(has_finding(*held, "volume 2 cannot be read"));
  EXPECT_EQ(text_at(*held, "crab.txt"), "pinch\n");
}

TEST(Apfs, CutsAndFlipsEndInErrors) {
  Bytes image = make_apfs({{.tree = sample_tree()}});
  EXPECT_GT(read_with_flips(image, 60, false), 40u);
  for (std::size_t size = 5000; size < image.size(); size += 4096 * 3 + 1000) {
    try {
      Held held = open_bytes(Bytes(image.begin(), image.begin() + static_cast<std::ptrdiff_t>(size)));
      held->entries();
      EXPECT_TRUE(has_finding(*held, "cut short")) << size;
    } catch (const Malformed& error) {
      EXPECT_TRUE(std::string(error.what()).starts_with("APFS")) << error.what();
    }
  }
}

}  // namespace
}  // namespace operculum

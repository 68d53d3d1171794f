// Wrappers of disk images and partition tables.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>

#include "container/parts.h"
#include "support/disk_writer.h"
#include "support/ext_writer.h"
#include "support/fat_writer.h"
#include "support/open.h"
#include "support/refusal.h"
#include "support/system_tools.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

using namespace test;

/// A disk with noise, zeros, a fill pattern and something that packs well.
Bytes sample_disk() {
  Bytes disk(3 << 20);
  Bytes random = noise(700'000);
  std::copy(random.begin(), random.end(), disk.begin() + 100'000);
  std::fill_n(disk.begin() + (2 << 20), 300'000, Byte{0xA5});
  for (std::size_t i = 0; i < 200'000; ++i) disk[(1 << 20) + 300'000 + i] = static_cast<Byte>(i / 50);
  return disk;
}

Bytes disk_of(Held& held) {
  Bytes out = read_all(*held->content(0)->stream(), 64 << 20);
  SourcePtr source = held->content(0)->source();
  EXPECT_EQ(read_up_to(*source, 1'000'001, 5000), Bytes(out.begin() + 1'000'001, out.begin() + 1'005'001));
  return out;
}

struct Wrapper {
  std::string name;
  std::string_view format;
  std::function<Bytes(const Bytes&)> make;
};

std::vector<Wrapper> wrappers() {
  return {
      {"qcow2_v2", "qcow2", [](const Bytes& disk) { return make_qcow2(disk, {.version = 2}); }},
      {"qcow2_v3", "qcow2", [](const Bytes& disk) { return make_qcow2(disk); }},
      {"qcow2_zlib", "qcow2",
       [](const Bytes& disk) { return make_qcow2(disk, {.codec = BlockCodec::deflate}); }},
      {"qcow2_zstd", "qcow2",
       [](const Bytes& disk) { return make_qcow2(disk, {.codec = BlockCodec::zstd}); }},
      {"vhd_fixed", "vhd", make_vhd_fixed},
      {"vhd_dynamic", "vhd", [](const Bytes& disk) { return make_vhd(disk); }},
      {"vhdx", "vhdx", [](const Bytes& disk) { return make_vhdx(disk); }},
      {"vmdk", "vmdk", [](const Bytes& disk) { return make_vmdk(disk); }},
      {"vmdk_stream", "vmdk", make_vmdk_stream},
      {"udif_raw", "udif", [](const Bytes& disk) { return make_udif(disk, BlockCodec::stored); }},
      {"udif_zlib", "udif", [](const Bytes& disk) { return make_udif(disk, BlockCodec::zlib); }},
      {"udif_bzip2", "udif", [](const Bytes& disk) { return make_udif(disk, BlockCodec::bzip2); }},
      {"udif_xz", "udif", [](const Bytes& disk) { return make_udif(disk, BlockCodec::xz); }},
      {"udif_adc", "udif", [](const Bytes& disk) { return make_udif(disk, BlockCodec::stored, true); }},
      {"android", "android-sparse", [](const Bytes& disk) { return make_android_sparse(disk); }},
  };
}

struct DiskWrapper : testing::TestWithParam<Wrapper> {};

TEST_P(DiskWrapper, GivesTheDisk) {
  Bytes disk = sample_disk();
  Held held = open_bytes(GetParam().make(disk), "exhibit.img");
  ASSERT_EQ(held.format(), GetParam().format);
  ASSERT_EQ(held->entries().size(), 1u);
  EXPECT_EQ(held->entries()[0].path, "exhibit.raw");
  EXPECT_EQ(held->entries()[0].size, disk.size());
  EXPECT_TRUE(disk_of(held) == disk);
  EXPECT_TRUE(held->findings().empty()) << held->findings()[0].text;
}

TEST_P(DiskWrapper, NeverGivesWrongBytesWhenCut) {
  Bytes disk = sample_disk(), image = GetParam().make(disk);
  for (std::size_t i = 1; i < 120; ++i) {
    Bytes cut(image.begin(), image.begin() + static_cast<std::ptrdiff_t>(image.size() * i / 120));
    try {
      Held held = open_bytes(cut, "exhibit.img");
      if (held.format() != GetParam().format) continue;
      Bytes got = read_all(*held->content(0)->stream(), 64 << 20);
      EXPECT_TRUE(got == disk) << "cut at " << cut.size() << " of " << image.size();
    } catch (const Error&) {
      // a clear error is right
    }
  }
}

TEST_P(DiskWrapper, SurvivesFlippedBytes) {
  Bytes image = GetParam().make(sample_disk());
  std::uint32_t state = 7;
  for (int round = 0; round < 60; ++round) {
    Bytes broken = image;
    for (int i = 0; i < 8; ++i) {
      state = state * 1664525 + 1013904223;
      std::size_t reach = round % 3 == 0 ? broken.size() : std::min<std::size_t>(broken.size(), 4096);
      std::size_t at = (state >> 4) % reach;
      if (round % 3 == 2) at = broken.size() - 1 - at;
      broken[at] = static_cast<Byte>(state >> 24);
    }
    try {
      Held held = open_bytes(broken, "exhibit.img");
      if (held.format() == "none" || held->entries().empty()) continue;
      StreamPtr stream = held->content(0)->stream();
      Bytes part(1 << 16);
      std::uint64_t read = 0;
      for (int i = 0; i < 100; ++i) read += stream->read(part);
      EXPECT_LE(read, held->entries()[0].size) << "round " << round;
    } catch (const Error& error) {
      EXPECT_STRNE(error.what(), "") << "round " << round;
    }
  }
}

INSTANTIATE_TEST_SUITE_P(Kinds, DiskWrapper, testing::ValuesIn(wrappers()),
                         [](const auto& each) { return each.param.name; });

// ---- differences to a parent

struct Difference {
  std::string name;
  std::function<Bytes(const Bytes&, const WrapOptions&)> make;
};

struct DiskDifference : testing::TestWithParam<Difference> {};

TEST_P(DiskDifference, ReadsTheRestFromTheParentBesideIt) {
  Bytes parent = sample_disk(), child = parent;
  Bytes change = noise(5000, 9);
  std::copy(change.begin(), change.end(), child.begin() + 1'048'576 + 512);
  std::fill_n(child.begin() + 100'000, 200'000, Byte{0});
  WrapOptions options{.parent = "base.img", .parent_disk = parent};
  Files files = {{"child.img", GetParam().make(child, options)}, {"base.img", GetParam().make(parent, {})}};
  Held held = open_beside("child.img", files);
  EXPECT_TRUE(disk_of(held) == child);
  files["base.img"] = parent;  // a raw parent will do
  Held raw = open_beside("child.img", files);
  EXPECT_TRUE(disk_of(raw) == child);
}

TEST_P(DiskDifference, TellsAParentInAnotherState) {
  if (GetParam().name == "qcow2") GTEST_SKIP() << "the format does not name its parent's state";
  Bytes parent = sample_disk(), child = parent, later = parent;
  child[2'000'000] ^= 1;
  later[3'000'000] ^= 1;
  WrapOptions options{.parent = "base.img", .parent_disk = parent};
  Files files = {{"child.img", GetParam().make(child, options)}, {"base.img", GetParam().make(later, {})}};
  EXPECT_TRUE(has_finding(*open_beside("child.img", files), "is not in the state that it is based on"));
  files["base.img"] = GetParam().make(parent, {});
  EXPECT_FALSE(has_finding(*open_beside("child.img", files), "is not in the state that it is based on"));
}

TEST_P(DiskDifference, NamesAMissingParent) {
  Bytes parent = sample_disk(), child = parent;
  child[2'000'000] ^= 1;
  WrapOptions options{.parent = "base.img", .parent_disk = parent};
  Held held = open_beside("child.img", {{"child.img", GetParam().make(child, options)}});
  EXPECT_TRUE(has_finding(*held, "its parent image \"base.img\", which is not beside it"));
  try {
    read_all(*held->content(0)->stream(), 64 << 20);
    FAIL() << "zeros were given for the parent's bytes";
  } catch (const Malformed& error) {
    EXPECT_NE(std::string(error.what()).find("base.img"), std::string::npos);
  }
}

INSTANTIATE_TEST_SUITE_P(Kinds, DiskDifference,
                         testing::Values(Difference{"qcow2", make_qcow2}, Difference{"vhd", make_vhd},
                                         Difference{"vhdx", make_vhdx}, Difference{"vmdk", make_vmdk}),
                         [](const auto& each) { return each.param.name; });

TEST(Qcow2, NamesItsSnapshots) {
  Held held = open_bytes(make_qcow2(sample_disk(), {.snapshot = "before the storm"}));
  auto facts = held->facts();
  EXPECT_NE(
      std::find(facts.begin(), facts.end(),
                std::pair(std::string("snapshot"), std::string("before the storm (2026-03-01 14:05:08Z)"))),
      facts.end());
}

TEST(Qcow2, AsksForAKeyWhenTheBytesAreWanted) {
  Bytes image = make_qcow2(sample_disk());
  image[35] = 1;
  Held held = open_bytes(image);
  EXPECT_EQ(fact(*held, "encryption"), "AES-128 in CBC mode");
  EXPECT_REFUSAL(text_of(*held, 0), NeedsKey,
                 "a password is needed; give it with --password-file, in OPERCULUM_PASSWORD or in keys.toml");
}

TEST(Qcow2, NamesEncryptionThatIsNotKnown) {
  Bytes image = make_qcow2(sample_disk());
  image[35] = 3;
  EXPECT_REFUSAL(open_bytes(image), Unsupported, "Unsupported: QCOW2 encryption method 3");
  image[35] = 2;  // LUKS, without its header
  EXPECT_REFUSAL(open_bytes(image), Malformed,
                 "QCOW2 header: it is encrypted, but tells no place of a LUKS header");
}

TEST(Vmdk, JoinsTheExtentsThatADescriptorNames) {
  Bytes disk = sample_disk();
  auto part = [&](std::size_t from, std::size_t to) {
    return Bytes(disk.begin() + static_cast<std::ptrdiff_t>(from),
                 disk.begin() + static_cast<std::ptrdiff_t>(to));
  };
  constexpr std::size_t kFirst = 1 << 20, kZeros = 64 << 10;
  std::string text = fmt::format(
      "# Disk DescriptorFile\nversion=1\ncreateType=\"custom\"\n\n# Extent description\nRW {} FLAT "
      "\"gauge-flat.vmdk\" 2\nRW {} ZERO\nRW {} SPARSE \"gauge-s002.vmdk\"\n",
      kFirst / 512, kZeros / 512, (disk.size() - kFirst) / 512);
  Bytes flat(1024, 0x11), first = part(0, kFirst);
  flat.insert(flat.end(), first.begin(), first.end());
  Files files = {{"gauge.vmdk", to_bytes(text)},
                 {"gauge-flat.vmdk", flat},
                 {"gauge-s002.vmdk", make_vmdk(part(kFirst, disk.size()))}};
  Held held = open_beside("gauge.vmdk", files);
  Bytes got = read_all(*held->content(0)->stream(), 64 << 20);
  Bytes expected = first;
  expected.resize(kFirst + kZeros);
  expected.insert(expected.end(), disk.begin() + kFirst, disk.end());
  EXPECT_TRUE(got == expected);
  files.erase("gauge-s002.vmdk");
  try {
    open_beside("gauge.vmdk", files);
    FAIL() << "was opened without a part";
  } catch (const Malformed& error) {
    EXPECT_NE(std::string(error.what()).find("gauge-s002.vmdk"), std::string::npos);
  }
}

TEST(AndroidSparse, JoinsSplitImages) {
  Bytes disk = sample_disk();
  Files files = {{"card.img_sparsechunk.0", make_android_sparse(disk, 0, 300)},
                 {"card.img_sparsechunk.1", make_android_sparse(disk, 300, 500)},
                 {"card.img_sparsechunk.2", make_android_sparse(disk, 500)}};
  for (const char* name : {"card.img_sparsechunk.0", "card.img_sparsechunk.2"}) {
    Held held = open_beside(name, files);
    EXPECT_TRUE(disk_of(held) == disk) << name;
  }
}

TEST(AndroidSparse, ComparesItsChecksum) {
  Bytes image = make_android_sparse(sample_disk());
  image[image.size() / 2] ^= 1;
  Held held = open_bytes(image);
  EXPECT_REFUSAL(read_all(*held->content(0)->stream(), 64 << 20), Malformed,
                 "checksum differs (stored 134ca873, computed b61113a6); the data is damaged");
}

TEST(Vhd, ReadsAnImageWhoseFooterIsMissing) {
  Bytes disk = sample_disk(), image = make_vhd(disk);
  image.resize(image.size() - 512);
  Held held = open_bytes(image);
  EXPECT_TRUE(has_finding(*held, "the footer is missing at the end"));
  EXPECT_TRUE(disk_of(held) == disk);
}

// ---- partitions

std::vector<DiskPart> parts() {
  return {{make_fat({{.path = "boot.cfg", .data = to_bytes("kiosk\n")}}, 12), "boot",
           "c12a7328-f81f-11d2-ba4b-00a0c93ec93b", 0xEF},
          {make_ext(sample_tree_with_links(), 2 << 20), "kiosk"},
          {noise(200'000), "spare", "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f", 0x82},
          {to_bytes("fourth part"), "four"},
          {to_bytes("fifth part"), "five"}};
}

struct Table {
  std::string name;
  std::string_view format;
  std::function<Bytes()> make;
  std::vector<std::string> numbers;
};

std::vector<Table> tables() {
  return {{"gpt", "gpt", [] { return make_gpt(parts()); }, {"1", "2", "3", "4", "5"}},
          {"gpt_4096", "gpt", [] { return make_gpt(parts(), 4096); }, {"1", "2", "3", "4", "5"}},
          {"mbr", "mbr", [] { return make_mbr(parts()); }, {"1", "2", "3", "5", "6"}},
          {"apple", "apple-map", [] { return make_apple_map(parts()); }, {"2", "3", "4", "5", "6"}}};
}

struct PartitionTables : testing::TestWithParam<Table> {};

TEST_P(PartitionTables, ListPartitionsAndWhatIsBetween) {
  Held held = open_bytes(GetParam().make(), "card.img");
  ASSERT_EQ(held.format(), GetParam().format);
  std::vector<DiskPart> expected = parts();
  for (std::size_t i = 0; i < expected.size(); ++i) {
    std::string data = text_at(*held, GetParam().numbers[i]);
    ASSERT_GE(data.size(), expected[i].data.size());
    EXPECT_TRUE(data.starts_with(as_text(expected[i].data))) << GetParam().numbers[i];
  }
  EXPECT_EQ(entry_at(*held, "unallocated-1").extra->type_tag, "unallocated");
  EXPECT_TRUE(held->findings().empty()) << held->findings()[0].text;
}

TEST_P(PartitionTables, TellOfAnImageCutShort) {
  Bytes disk = GetParam().make();
  disk.resize(disk.size() - (200 << 10));
  Held held = open_bytes(disk, "card.img");
  EXPECT_TRUE(has_finding(*held, "the image is cut short"));
}

INSTANTIATE_TEST_SUITE_P(Kinds, PartitionTables, testing::ValuesIn(tables()),
                         [](const auto& each) { return each.param.name; });

TEST(Gpt, FindsAPartitionByItsName) {
  Held held = open_bytes(make_gpt(parts()), "card.img");
  Lookup found = held->find("kiosk/gauge/run");
  ASSERT_EQ(found.kind, Lookup::Kind::entry);
  EXPECT_EQ(found.entry->path, "2");
  EXPECT_EQ(found.consumed, 5u);
}

TEST(Gpt, UsesTheBackupAtTheEnd) {
  Bytes disk = make_gpt(parts());
  disk[512 + 60] ^= 1;
  Held held = open_bytes(disk, "card.img");
  EXPECT_TRUE(has_finding(*held, "its backup at the end was used"));
  EXPECT_EQ(text_at(*held, "4").substr(0, 11), "fourth part");
  for (std::size_t i = 512; i < 1024; ++i) disk[i] = 0;
  EXPECT_EQ(open_bytes(disk, "card.img").format(), "gpt");
}

TEST(Gpt, TellsWhenTheBackupDisagrees) {
  Bytes disk = make_gpt(parts());
  disk[disk.size() - 512 - 32 * 512 + 56] ^= 1;  // within the copy of the entries
  Held held = open_bytes(disk, "card.img");
  EXPECT_TRUE(has_finding(*held, "the backup partition table is damaged or missing"));
}

TEST(Gpt, TellsOfAHybridTable) {
  Bytes disk = make_gpt(parts());
  disk[446 + 16 + 4] = 0x0C;
  disk[446 + 16 + 8] = 1;
  disk[446 + 16 + 12] = 1;
  Held held = open_bytes(disk, "card.img");
  EXPECT_TRUE(has_finding(*held, "a hybrid table"));
}

TEST(Mbr, DoesNotFollowAChainThatLeadsBackwards) {
  Bytes disk = make_mbr(parts());
  std::size_t first = 0;
  for (std::size_t i = 0; i < 4; ++i) first |= std::size_t{disk[446 + 48 + 8 + i]} << (8 * i);
  std::size_t second = first;
  for (std::size_t i = 0; i < 4; ++i) second += std::size_t{disk[first * 512 + 462 + 8 + i]} << (8 * i);
  disk[second * 512 + 462 + 4] = 5;  // one after the second, which lies before it
  disk[second * 512 + 462 + 8] = 1;
  disk[second * 512 + 462 + 12] = 1;
  Held held = open_bytes(disk, "card.img");
  EXPECT_TRUE(has_finding(*held, "leads backwards"));
}

TEST(Partitions, TellOfASizeThatIsNoMultipleOfTheSector) {
  Bytes disk = make_mbr(parts());
  disk.push_back(0);
  EXPECT_TRUE(has_finding(*open_bytes(disk, "card.img"), "not a multiple of the sector"));
}

TEST(Vmdk, PartsAreVisibleFilesOfWholeSectorsBesideIt) {
  auto descriptor = [](const std::string& part) {
    return to_bytes("# Disk DescriptorFile\nversion=1\ncreateType=\"monolithicFlat\"\nRW 1 FLAT \"" + part +
                    "\" 0\n");
  };
  auto refusal = [&](const std::string& part, const Files& beside) -> std::string {
    Files files = beside;
    files["card.vmdk"] = descriptor(part);
    try {
      open_beside("card.vmdk", files);
    } catch (const Error& error) {
      return error.what();
    }
    return "";
  };
  EXPECT_NE(refusal("../secret", {}).find("a part in another folder"), std::string::npos);
  EXPECT_NE(refusal("/etc/passwd", {}).find("a part in another folder"), std::string::npos);
  EXPECT_NE(refusal("flat", {{"flat", Bytes(700)}}).find("700 bytes are no whole sectors"),
            std::string::npos);
  EXPECT_EQ(refusal("flat", {{"flat", Bytes(512)}}), "");
  TempFolder folder;
  folder.write(".hidden", Bytes(512));
  folder.write("plain", Bytes(512));
  std::filesystem::create_symlink("plain", folder.path("link"));
  auto sibling = file_sibling(folder.path("card.vmdk"));
  EXPECT_EQ(sibling(".hidden"), nullptr);
  EXPECT_EQ(sibling("link"), nullptr);
  EXPECT_EQ(sibling(".ssh/id_rsa"), nullptr);
  ASSERT_NE(sibling("plain"), nullptr);
}

TEST(Vhd, WhatItsTableDoesNotCoverIsOneHole) {
  // A dynamic disk of 2^60 bytes with one block: nothing may take time by what it claims.
  constexpr std::uint64_t kClaimed = std::uint64_t{1} << 60;
  Canvas footer(512);
  footer.text(0, "conectix");
  footer.big(8, 2, 4);
  footer.big(12, 0x10000, 4);
  footer.big(16, 512, 8);
  footer.big(40, kClaimed, 8);
  footer.big(48, kClaimed, 8);
  footer.big(60, 3, 4);
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < 512; ++i) sum += footer[i];
  footer.big(64, static_cast<std::uint32_t>(~sum), 4);
  Canvas header(1024);
  header.text(0, "cxsparse");
  header.big(8, UINT64_MAX, 8);
  header.big(16, 1536, 8);
  header.big(24, 0x10000, 4);
  header.big(28, 1, 4);
  header.big(32, 4096, 4);
  sum = 0;
  for (std::size_t i = 0; i < 1024; ++i) sum += header[i];
  header.big(36, static_cast<std::uint32_t>(~sum), 4);
  Bytes foot = footer.take(), head = header.take();
  ByteWriter disk;
  disk.bytes(foot).bytes(head).u32be(4).zeros(508);
  disk.zeros(512).text("nothing known").zeros(4096 - 13).bytes(foot);
  Held held = open_bytes(disk.take());
  ASSERT_EQ(held.format(), "vhd");
  SourcePtr inside = held->content(0)->source();
  EXPECT_EQ(inside->size(), kClaimed);
  EXPECT_EQ(inside->hole_at(4096), kClaimed - 4096);
}

}  // namespace
}  // namespace operculum

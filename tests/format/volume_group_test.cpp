// LVM2 volume groups that the kernel's device mapper filled.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/checksum.h"
#include "base/numbers.h"
#include "base/text.h"
#include "format/volume/lvm_group.h"
#include "format/volume/lvm_label.h"
#include "format/volume/lvm_text.h"
#include "support/byte_writer.h"
#include "support/kernel_images.h"
#include "support/refusal.h"
#include "support/system_tools.h"

namespace operculum {
namespace {

using namespace test;

std::size_t index_of(Container& container, const std::string& path) {
  return static_cast<std::size_t>(&entry_at(container, path) - container.entries().data());
}

struct VolumeGroup : testing::Test {
  KernelImages images{"lvm"};

  void expect(Held& held, const std::string& volume) const {
    const DeviceSum& wanted = device_sum("lv-" + volume);
    DeviceSum found = sum_of_entry(*held, index_of(*held, volume));
    EXPECT_EQ(found.size, wanted.size) << volume;
    EXPECT_EQ(found.sha256, wanted.sha256) << volume;
  }
};

TEST_F(VolumeGroup, EveryKindOfVolume) {
  Held held = images.open("pv2.lv");
  ASSERT_EQ(held.format(), "lvm2");
  for (const char* volume :
       {"plain", "wide", "spread", "twin", "oldtwin", "base", "basesnap", "thin", "thinsnap"})
    expect(held, volume);
  EXPECT_EQ(held->entries().size(), 9u);  // no parts of volumes, no pools
  EXPECT_EQ(entry_at(*held, "basesnap").extra->type_tag, "snapshot of base");
  EXPECT_EQ(entry_at(*held, "plain").extra->type_tag, "linear");
  EXPECT_EQ(fact(*held, "group"), "gauge");
  EXPECT_EQ(fact(*held, "parts"), "4 of 4");
  EXPECT_TRUE(held->findings().empty()) << held->findings().front().text;
}

TEST_F(VolumeGroup, AMissingPhysicalVolumeCostsOnlyWhatLiesOnIt) {
  images.remove("pv1.lv");
  Held held = images.open("pv0.lv");
  EXPECT_EQ(fact(*held, "parts"), "3 of 4");
  EXPECT_TRUE(has_finding(*held, "is not beside this one"));
  expect(held, "plain");
  expect(held, "twin");
  const Entry& spread = entry_at(*held, "spread");
  EXPECT_TRUE(spread.is(Entry::damaged));
  EXPECT_REFUSAL(sum_of_entry(*held, index_of(*held, "spread")), Malformed,
                 "this part lies on physical volume dE6B8D-WSRY-PsLO-zcPI-x5RC-81W2-SXFpxi of group "
                 "\"gauge\", which is not beside this one");
}

TEST_F(VolumeGroup, ALabelThatDoesNotFitItsChecksumIsNone) {
  std::string raw = images.folder().read("pv0.lv");
  raw[512 + 40] ^= 1;
  images.folder().write("pv0.lv", raw);
  EXPECT_NE(images.open("pv0.lv").format(), "lvm2");
}

/// The text is there twice over, in each physical volume: that of another one is as good.
TEST_F(VolumeGroup, DamagedMetadataIsTakenFromAnother) {
  std::string raw = images.folder().read("pv0.lv");
  for (std::size_t at = raw.find("physical_volumes", 4096); at != std::string::npos && at < 1 << 20;
       at = raw.find("physical_volumes", at + 1))
    raw[at] = 'X';
  images.folder().write("pv0.lv", raw);
  Held held = images.open("pv0.lv");
  EXPECT_TRUE(has_finding(*held, "expected checksum"));
  expect(held, "plain");
}

TEST(VolumeGroups, ArraysOfEveryLayout) {
  KernelImages images("lvm-raid");
  Held held = images.open("six3.lv");
  std::size_t count = 0;
  for (const Entry& entry : held->entries()) {
    const DeviceSum& wanted = device_sum("six-" + entry.path);
    DeviceSum found = sum_of_entry(*held, index_of(*held, entry.path));
    EXPECT_EQ(found.size, wanted.size) << entry.path;
    EXPECT_EQ(found.sha256, wanted.sha256) << entry.path;
    ++count;
  }
  EXPECT_EQ(count, 16u);
}

TEST(VolumeGroups, ArraysWithoutTwoPhysicalVolumes) {
  KernelImages images("lvm-raid");
  images.remove("six1.lv");
  images.remove("six4.lv");
  Held held = images.open("six0.lv");
  for (const Entry& entry : held->entries()) {
    if (!entry.path.starts_with("raid6")) continue;
    EXPECT_FALSE(entry.is(Entry::damaged)) << entry.path;
    EXPECT_EQ(sum_of_entry(*held, index_of(*held, entry.path)).sha256, device_sum("six-" + entry.path).sha256)
        << entry.path;
  }
  EXPECT_TRUE(entry_at(*held, "raid0").is(Entry::damaged));
}

TEST(VolumeGroupText, ValuesListsAndSections) {
  lvm::Section all = lvm::Section::parse(
      "# a comment\ncontents = \"Text Format Volume Group\"\nversion = 1\n"
      "gauge {\n\tid = \"a-b\"\n\tstripes = [\n\"pv0\", 0,\n\"pv1\", 12\n]\n\tempty = []\n}\n");
  EXPECT_EQ(all.number("version"), 1u);
  EXPECT_EQ(all.section("gauge")->text("id"), "a-b");
  EXPECT_EQ(all.section("gauge")->list("stripes"), (std::vector<std::string>{"pv0", "0", "pv1", "12"}));
  EXPECT_TRUE(all.section("gauge")->list("empty").empty());
}

/// A group of one physical volume, whose logical volume "log" has this one segment.
std::string group_text(const std::string& segment, const std::string& front = "segment_count = 1\n") {
  return "extent_size = 8\nphysical_volumes {\npv0 {\nid = \"id0\"\npe_start = 0\n}\n}\nlogical_volumes "
         "{\nlog {\n" +
         front + "segment1 {\nstart_extent = 0\nextent_count = 2\n" + segment + "\n}\n}\n}\n";
}

lvm::Group group_of(const std::string& text) {
  return {"gauge", lvm::Section::parse(text), {{"id0", make_memory_source(Bytes(64 * 1024, Byte{'t'}))}}};
}

TEST(VolumeGroupText, WhatItSaysIsReadAsItIs) {
  std::string text = group_text("type = \"striped\"\nstripe_count = 1\nstripes = [\"pv0\", 1]");
  EXPECT_EQ(group_of(text).open("log")->size(), 2u * 8 * 512);
}

TEST(VolumeGroupText, WhatCannotBeIsRefused) {
  struct Wrong {
    std::string text, sentence;
  };
  const std::string striped = "type = \"striped\"\n", array = "type = \"raid5\"\n";
  for (const Wrong& one : std::initializer_list<Wrong>{
           {group_text(striped + "stripe_count = 3\nstripes = [\"pv0\", 1]"), "expected 3 stripes, found 1"},
           {group_text(striped + "stripes = [\"pv0\", \"one\"]"),
            "expected an extent's number, found \"one\""},
           {group_text(striped + "stripes = [\"pv9\", 1]"), "there is no volume \"pv9\""},
           {group_text(striped + "stripes = [\"log\", 1]"), "made of each other without end"},
           {group_text(array + "device_count = 3\nraids = [\"a\", \"b\"]"),
            "expected 3 members of an array, found 2"},
           {group_text("type = \"tidal\""), "Unsupported: LVM2 volumes of type tidal"},
           {group_text("type = \"thin\"\nthin_pool = \"log\"\ndevice_id = 1"),
            "expected metadata to be a text"},
           {group_text(striped + "start_extent = 4\nstripes = [\"pv0\", 1]"),
            "expected a segment of \"log\" at extent 0, found one at 4"},
           {group_text(striped, "segment_count = 4000000\n"), "a volume of 4000000 segments is not possible"},
           {group_text(striped, "segment_count = 2\n"), "segment2 of 2 is missing"},
           {group_text(striped, "segment_count = \"two\"\n"),
            "expected segment_count to be a number, found none"},
           {"extent_size = 0\n", "extents of 0 bytes are not possible"},
           {"extent_size = 8\n", "there is no section physical_volumes"}}) {
    EXPECT_REFUSAL(group_of(one.text).open("log"), Error, one.sentence) << one.text;
  }
}

/// The head of a metadata area that says where its text lies, with its checksum.
Bytes area_head(std::uint64_t offset, std::uint64_t size) {
  Canvas head(8192);
  head.text(4, " LVM2 x[5A%r0N*>");
  head.little(40, offset, 8);
  head.little(48, size, 8);
  Bytes out = head.take();
  store_number(out.data(), 4, crc32_plain(0xF597A6CF, ByteView(out).subspan(4, 508)));
  return out;
}

TEST(VolumeGroupArea, HeadsThatCannotBeAreRefused) {
  auto read = [](const Bytes& bytes) {
    return lvm::read_metadata(*make_memory_source(bytes), 0, bytes.size());
  };
  EXPECT_EQ(read(area_head(0, 0)), std::nullopt);
  Bytes unmarked = area_head(512, 10), damaged = unmarked;
  unmarked[5] ^= 1;
  EXPECT_REFUSAL(read(unmarked), Malformed, "LVM2 metadata area at offset 0: the mark is missing");
  damaged[100] ^= 1;
  EXPECT_REFUSAL(read(damaged), Malformed, "LVM2 metadata area at offset 0: expected checksum 0x");
  EXPECT_REFUSAL(read(area_head(100, 10)), Malformed,
                 "LVM2 metadata area at offset 0: a text of 10 bytes at 100 does not fit");
  EXPECT_REFUSAL(read(area_head(512, 1 << 30)), Malformed,
                 "LVM2 metadata area at offset 0: a text of 1073741824 bytes at 512 does not fit");
  EXPECT_REFUSAL(read(area_head(512, 10)), Malformed, "LVM2 metadata at offset 512: expected checksum 0x0");
}

TEST(VolumeGroupText, SaysWhereItIsWrong) {
  auto wrong = [](std::string_view text) {
    try {
      lvm::Section::parse(text);
    } catch (const Malformed& error) {
      return std::string(error.what());
    }
    return std::string("nothing");
  };
  EXPECT_EQ(wrong("a = 1\nb 2"), "LVM2 metadata, line 2: expected \"=\" or \"{\", found \"2\"");
  EXPECT_EQ(wrong("a {\nb = 1\n"), "LVM2 metadata, line 3: expected \"}\", found the end");
  EXPECT_EQ(wrong("a = [ 1 2 ]"), "LVM2 metadata, line 1: expected \",\" or \"]\", found \"2\"");
  EXPECT_EQ(wrong("a = \"x"), "LVM2 metadata, line 1: expected the end of a text, found the end");
  std::string deep;
  for (int i = 0; i < 20; ++i) deep += "a { ";
  EXPECT_NE(wrong(deep).find("fewer sections"), std::string::npos);
}

}  // namespace
}  // namespace operculum

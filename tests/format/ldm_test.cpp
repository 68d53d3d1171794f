// Groups of dynamic disks, written here by the kernel's documentation: three disks, five volumes.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>

#include "support/has.h"
#include "support/ldm_writer.h"
#include "support/open.h"
#include "support/refusal.h"
#include "support/system_tools.h"

namespace operculum {
namespace {

using namespace test;

Files all_disks() {
  return {{"shelf-1.img", dynamic_disk(1)},
          {"shelf-2.img", dynamic_gpt_disk(2)},
          {"shelf-3.img", dynamic_disk(3)}};
}

void expect_volume(Held& held, const std::string& name) {
  auto volume = std::find_if(dynamic_volumes().begin(), dynamic_volumes().end(),
                             [&](const DynamicVolume& one) { return one.name == name; });
  EXPECT_TRUE(text_at(*held, name) == as_text(volume->content)) << name;
}

TEST(DynamicDisks, EveryVolumeByEveryDisk) {
  for (const char* name : {"shelf-1.img", "shelf-2.img", "shelf-3.img"}) {
    Held held = open_beside(name, all_disks());
    ASSERT_EQ(held.format(), "ldm") << name;
    for (const DynamicVolume& volume : dynamic_volumes()) expect_volume(held, volume.name);
    EXPECT_EQ(fact(*held, "parts"), "3 of 3");
    EXPECT_EQ(fact(*held, "uuid"), kDynamicGroup);
    EXPECT_TRUE(held->findings().empty()) << held->findings().front().text;
  }
}

TEST(DynamicDisks, TellsKindsAndLetters) {
  Held held = open_beside("shelf-1.img", all_disks());
  auto tag = [&](const std::string& name) { return entry_at(*held, name).extra->type_tag; };
  EXPECT_EQ(tag("Simple"), "simple");
  EXPECT_EQ(tag("Spanned"), "spanned");
  EXPECT_EQ(tag("Striped"), "striped");
  EXPECT_EQ(tag("Mirrored"), "mirrored");
  EXPECT_EQ(tag("Parity"), "RAID 5");
  EXPECT_EQ(entry_at(*held, "Simple").extra->comment, "T:");
}

TEST(DynamicDisks, ADiskThatIsMissingCostsOnlyWhatItAloneHeld) {
  Files files = all_disks();
  files.erase("shelf-2.img");
  Held held = open_beside("shelf-1.img", files);
  EXPECT_TRUE(has_finding(*held, "disk \"Disk2\" (5a17a002-1c0f-4d3e-9a51-7dfe00c0ffee)"));
  for (const char* name : {"Simple", "Mirrored", "Parity"}) {
    EXPECT_FALSE(entry_at(*held, name).is(Entry::damaged)) << name;
    expect_volume(held, name);
  }
  struct Missing {
    const char *name, *why;
  };
  for (const Missing& one : {Missing{"Spanned", "the disk that holds \"Disk2-01\" is missing"},
                             {"Striped", "this part lies on member 1 of the array, which is not there"}}) {
    const char* name = one.name;
    EXPECT_TRUE(entry_at(*held, name).is(Entry::damaged)) << name;
    EXPECT_TRUE(has_finding(*held, fmt::format("volume \"{}\" cannot be read wholly", name)));
    EXPECT_REFUSAL(text_at(*held, name), Malformed, one.why);
  }
  files.erase("shelf-3.img");
  Held alone = open_beside("shelf-1.img", files);
  EXPECT_TRUE(entry_at(*alone, "Parity").is(Entry::damaged));
  expect_volume(alone, "Mirrored");
}

TEST(DynamicDisks, TheNewestDatabaseCounts) {
  Files files = all_disks();
  Bytes older = dynamic_disk(1, 3);
  std::size_t simple = 0;  // where the older one calls a volume otherwise
  for (std::size_t at = kDynamicConfigAt; at + 6 < older.size(); ++at)
    if (as_text(ByteView(older).subspan(at, 6)) == "Simple") simple = at;
  ASSERT_NE(simple, 0u);
  older[simple] = 'D';
  files["shelf-1.img"] = older;
  Held held = open_beside("shelf-1.img", files);
  expect_volume(held, "Simple");
}

TEST(DynamicDisks, ADamagedDatabaseIsTakenFromAnotherDisk) {
  Files files = all_disks();
  files["shelf-1.img"][kDynamicDatabaseAt] ^= 1;
  Held held = open_beside("shelf-1.img", files);
  EXPECT_TRUE(has_finding(*held, "the mark is missing; another disk's database was used"));
  expect_volume(held, "Parity");
  EXPECT_REFUSAL(
      {
        try {
          open_beside("shelf-1.img", {{"shelf-1.img", files["shelf-1.img"]}});
        } catch (const Malformed& error) {
          EXPECT_TRUE(has(error.what(), "LDM database at offset")) << error.what();
          throw;
        }
      },
      Malformed, "LDM database at offset 165376: the mark is missing");
}

TEST(DynamicDisks, DamagedRecordsCostNoOther) {
  Bytes raw = dynamic_disk(1);
  for (std::size_t at = kDynamicConfigAt; at + 8 < raw.size(); ++at) {
    if (as_text(ByteView(raw).subspan(at, 7)) == "Striped") {
      raw[at - 1] = 250;  // a name that goes on beyond the record
      break;
    }
  }
  Held held = open_beside("shelf-1.img", {{"shelf-1.img", raw}});
  EXPECT_TRUE(has_finding(*held, "of the database: LDM record"));
  expect_volume(held, "Simple");
}

TEST(DynamicDisks, EveryPrefixEndsInASentence) {
  Bytes raw = dynamic_disk(1);
  raw.resize(kDynamicConfigAt + 12 * 512);
  for (std::size_t size = raw.size(); size > kDynamicConfigAt; size -= 97) {
    try {
      Held held = open_bytes(Bytes(raw.begin(), raw.begin() + static_cast<std::ptrdiff_t>(size)), "cut.img");
      for (std::size_t i = 0; i < held->entries().size(); ++i) text_of(*held, i);
    } catch (const Error& error) {
      EXPECT_FALSE(std::string(error.what()).empty());
    }
  }
}

}  // namespace
}  // namespace operculum

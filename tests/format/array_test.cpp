// Linux MD arrays that the kernel built: whole, with members missing, and with members that are not theirs.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <filesystem>

#include "container/locator.h"
#include "format/volume/raid_array.h"
#include "support/kernel_images.h"
#include "support/refusal.h"
#include "support/system_tools.h"

namespace operculum {
namespace {

using namespace test;

struct Array {
  const char* set;
  std::size_t members;
  unsigned spare;  ///< members that may be missing
};

/// Unpacked once for all tests, each of which leaves it as it was.
const KernelImages& images_of(const std::string& set) {
  static std::map<std::string, KernelImages> all;
  return all.try_emplace(set, set).first->second;
}

struct MdArray : testing::TestWithParam<Array> {
  const KernelImages& images = images_of(GetParam().set);

  std::string member(std::size_t number) const { return fmt::format("{}.{}", GetParam().set, number); }

  /// Opened through the first member that is there.
  Held open() const {
    for (std::size_t i = 0;; ++i)
      if (images.has(member(i))) return images.open(member(i));
  }

  void expect_all(Held& held) const {
    const DeviceSum& wanted = device_sum(GetParam().set);
    DeviceSum found = sum_of_entry(*held, 0);
    EXPECT_EQ(found.size, wanted.size);
    EXPECT_EQ(found.sha256, wanted.sha256);
  }
};

TEST_P(MdArray, OpensByAnyMember) {
  for (std::size_t i = 0; i < GetParam().members; ++i) {
    Held held = images.open(member(i));
    ASSERT_EQ(held.format(), "md");
    EXPECT_EQ(fact(*held, "member"), fmt::format("number {}", i));
    EXPECT_EQ(fact(*held, "members"), fmt::format("{0} of {0}", GetParam().members));
    EXPECT_TRUE(held->findings().empty()) << held->findings().front().text;
    if (i == 0) expect_all(held);
  }
}

TEST_P(MdArray, ComputesWhatOneMemberHeld) {
  if (GetParam().spare == 0) return;
  for (std::size_t lost : {std::size_t{0}, GetParam().members - 1}) {
    images.hide(member(lost));
    Held held = open();
    EXPECT_TRUE(has_finding(*held, fmt::format("degraded: member {} of", lost)));
    expect_all(held);
    images.hide(member(lost), false);
  }
}

TEST_P(MdArray, ComputesWhatTwoMembersHeld) {
  if (GetParam().spare < 2) return;
  for (auto [first, second] : {std::pair{0, 1}, {0, 4}, {1, 3}, {3, 4}}) {
    images.hide(member(first));
    images.hide(member(second));
    Held held = open();
    expect_all(held);
    images.hide(member(first), false);
    images.hide(member(second), false);
  }
}

TEST_P(MdArray, SaysWhatCannotBeComputed) {
  std::size_t lost = GetParam().spare + 1;
  if (lost >= GetParam().members || std::string(GetParam().set).starts_with("md-10"))
    return;  // copies are left
  for (std::size_t i = 0; i < lost; ++i) images.hide(member(i));
  Held held = open();
  for (std::size_t i = 0; i < lost; ++i) images.hide(member(i), false);
  EXPECT_TRUE(has_finding(*held, lost == 1 ? "; put it there" : "; put them there"));
  EXPECT_REFUSAL(
      {
        try {
          sum_of_entry(*held, 0);
        } catch (const Malformed& error) {
          EXPECT_TRUE(std::string(error.what()).find("not there") != std::string::npos ||
                      std::string(error.what()).find("cannot be computed") != std::string::npos)
              << error.what();
          throw;
        }
      },
      Malformed, "of the array");
}

INSTANTIATE_TEST_SUITE_P(Sets, MdArray,
                         testing::Values(Array{"md-linear", 3, 0}, Array{"md-0", 3, 0}, Array{"md-1", 2, 1},
                                         Array{"md-1-front", 2, 1}, Array{"md-1-old", 2, 1},
                                         Array{"md-4", 3, 1}, Array{"md-5", 3, 1}, Array{"md-5-la", 4, 1},
                                         Array{"md-5-ra", 4, 1}, Array{"md-5-rs", 4, 1},
                                         Array{"md-5-first", 4, 1}, Array{"md-6", 5, 2},
                                         Array{"md-6-ra", 5, 2}, Array{"md-6-n", 5, 2}, Array{"md-6-z", 5, 2},
                                         Array{"md-10", 4, 1}, Array{"md-10-odd", 3, 1},
                                         Array{"md-10-far", 4, 1}, Array{"md-10-offset", 4, 1}),
                         [](const auto& one) {
                           std::string name = one.param.set;
                           std::erase(name, '-');
                           return name;
                         });

TEST(MdArrays, AMemberOfAnotherArrayIsNotTaken) {
  KernelImages five("md-5"), four("md-4");
  five.remove("md-5.1");
  five.folder().write("other.1", four.folder().read("md-4.1"));
  Held held = five.open("md-5.0");
  EXPECT_EQ(fact(*held, "members"), "2 of 3");
}

TEST(MdArrays, FoundWhateverTheFilesAreCalled) {
  KernelImages images("md-5");
  for (int i = 0; i < 3; ++i)
    std::filesystem::rename(images.path(fmt::format("md-5.{}", i)),
                            images.path(fmt::format("{}-shelf.bin", 9 - i)));
  Held held = images.open("8-shelf.bin");
  EXPECT_EQ(fact(*held, "members"), "3 of 3");
  EXPECT_EQ(sum_of_entry(*held, 0).sha256, device_sum("md-5").sha256);
}

TEST(MdArrays, ADamagedSuperblockIsNoMember) {
  KernelImages images("md-5");
  std::string raw = images.folder().read("md-5.0");
  raw[4096 + 80] ^= 1;  // the array's size
  images.folder().write("md-5.0", raw);
  Held held = images.open("md-5.0");
  EXPECT_NE(held.format(), "md");
}

/// Members in partitions of several disks: each lies beside the other's disk.
TEST(MdArrays, MembersWithinOtherDisks) {
  KernelImages images("md-1");
  for (int i = 0; i < 2; ++i) {
    std::string member = images.folder().read(fmt::format("md-1.{}", i)), disk(1 << 20, '\0');
    auto put = [&](std::size_t at, std::uint32_t value) {
      for (int b = 0; b < 4; ++b) disk[at + b] = static_cast<char>(value >> (8 * b));
    };
    disk[446 + 4] = '\xFD';
    put(446 + 8, 2048);
    put(446 + 12, static_cast<std::uint32_t>(member.size() / 512));
    disk[510] = '\x55';
    disk[511] = '\xAA';
    images.folder().write(fmt::format("disk{}.img", i), disk + member);
    images.remove(fmt::format("md-1.{}", i));
  }
  OpenContext context;
  Place place = resolve(images.path("disk0.img") + "/1", context, Step::into);
  ASSERT_EQ(place.layers.size(), 2u);
  EXPECT_EQ(place.layers[1].format->id, "md");
  EXPECT_EQ(fact(*place.layers[1].container, "members"), "2 of 2");
}

TEST(RaidArray, LayoutsOfLevel10ThatCannotBeAreRefused) {
  auto array = [](unsigned layout) {
    RaidShape shape{.level = 10, .layout = layout, .chunk = 4096, .member_size = 1 << 16};
    return make_raid_array(shape, {make_memory_source(Bytes(1 << 16)), make_memory_source(Bytes(1 << 16))});
  };
  EXPECT_EQ(array(0x102)->size(), 1u << 16);
  EXPECT_REFUSAL(array(0x100), Malformed, "RAID 10: layout 0x100 is not possible with 2 members");
  EXPECT_REFUSAL(array(0x103), Malformed, "RAID 10: layout 0x103 is not possible with 2 members");
  EXPECT_REFUSAL(array(0x60102), Unsupported, "RAID 10 with layout 0x60102");
}

}  // namespace
}  // namespace operculum

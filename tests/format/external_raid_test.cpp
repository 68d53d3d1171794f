// RAID groups whose metadata the kernel leaves to others: the images were written through arrays that it ran.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/checksum.h"
#include "format/volume/ddf_records.h"
#include "format/volume/imsm_records.h"
#include "support/has.h"
#include "support/kernel_images.h"
#include "support/sentence.h"

namespace operculum::test {
namespace {

struct Case {
  const char* set;
  std::size_t members, spare;
  std::vector<const char*> sums = {};  // of its volumes; empty: the set's own
};

class ExternalRaid : public testing::TestWithParam<Case> {
 protected:
  KernelImages images{GetParam().set};
  std::string member(std::size_t i) const { return fmt::format("{}.loop{}", GetParam().set, i); }

  void expect_all(const Held& held) {
    std::vector<const char*> sums = GetParam().sums;
    if (sums.empty()) sums = {GetParam().set};
    ASSERT_EQ(held->entries().size(), sums.size());
    for (std::size_t i = 0; i < sums.size(); ++i) {
      DeviceSum read = sum_of_entry(*held, i);
      EXPECT_EQ(read.size, device_sum(sums[i]).size) << sums[i];
      EXPECT_EQ(read.sha256, device_sum(sums[i]).sha256) << sums[i];
      EXPECT_EQ(held->entries()[i].size, read.size);
    }
  }
};

TEST_P(ExternalRaid, EachMemberOpensTheWhole) {
  for (std::size_t i = 0; i < GetParam().members; ++i) {
    Held held = images.open(member(i));
    EXPECT_EQ(held.format(), std::string(GetParam().set).starts_with("ddf") ? "ddf" : "imsm");
    EXPECT_TRUE(held->findings().empty());
    expect_all(held);
  }
}

TEST_P(ExternalRaid, ComputesWhatIsMissing) {
  if (GetParam().spare == 0) return;
  for (std::size_t lost = 0; lost + 1 < GetParam().members; ++lost) {
    images.hide(member(lost));
    Held held = images.open(member(lost + 1));
    EXPECT_TRUE(
        has_finding(*held, fmt::format("1 of its {} members is not beside this one; what they held is taken "
                                       "from the rest",
                                       GetParam().members)));
    expect_all(held);
    images.hide(member(lost), false);
  }
}

TEST_P(ExternalRaid, SaysWhatCannotBeComputed) {
  if (GetParam().spare > 0) return;
  images.hide(member(0));
  Held held = images.open(member(1));
  std::size_t broken = held->entries().size() - 1;
  EXPECT_TRUE(has_finding(*held, "1 of its "));
  EXPECT_TRUE(has_finding(*held, "; put them there"));
  EXPECT_TRUE(held->entries()[broken].is(Entry::damaged));
  EXPECT_NE(sentence([&] { sum_of_entry(*held, broken); }).find("not there"), std::string::npos);
}

INSTANTIATE_TEST_SUITE_P(All, ExternalRaid,
                         testing::Values(Case{"ddf-0", 3, 0}, Case{"ddf-1", 2, 1}, Case{"ddf-5", 3, 1},
                                         Case{"ddf-6", 4, 1}, Case{"ddf-10", 4, 1}, Case{"ddf-1e", 3, 1},
                                         Case{"ddf-two", 2, 0, {"ddf-two-first", "ddf-two-second"}},
                                         Case{"imsm-0", 2, 0}, Case{"imsm-1", 2, 1}, Case{"imsm-5", 3, 1},
                                         Case{"imsm-10", 4, 1},
                                         Case{"imsm-two", 2, 0, {"imsm-two-first", "imsm-two-second"}}),
                         [](const auto& info) {
                           std::string name = info.param.set;
                           std::replace(name.begin(), name.end(), '-', '_');
                           return name;
                         });

TEST(DdfGroup, TwoOfFourWithDoubleParity) {
  KernelImages images("ddf-6");
  images.hide("ddf-6.loop0");
  images.hide("ddf-6.loop2");
  Held held = images.open("ddf-6.loop1");
  EXPECT_EQ(sum_of_entry(*held, 0).sha256, device_sum("ddf-6").sha256);
}

Files files_of(const KernelImages& images, const std::string& set, std::size_t members) {
  Files out;
  for (std::size_t i = 0; i < members; ++i)
    out[fmt::format("{}.loop{}", set, i)] = to_bytes(images.folder().read(fmt::format("{}.loop{}", set, i)));
  return out;
}

TEST(DdfGroup, ItsCopyOfTheHeaderServesWhereTheFirstIsDamaged) {
  KernelImages images("ddf-1");
  Files files = files_of(images, "ddf-1", 2);
  for (auto& [name, bytes] : files) bytes[49152 * 512 + 50] ^= 1;
  Held held = open_beside("ddf-1.loop0", files);
  EXPECT_EQ(sum_of_entry(*held, 0).sha256, device_sum("ddf-1").sha256);
  for (auto& [name, bytes] : files) bytes[16384 * 512 + 50] ^= 1;
  EXPECT_EQ(sentence([&] { *open_beside("ddf-1.loop0", files); }),
            "DDF: neither the header nor its copy is where the anchor says");
}

TEST(ImsmGroup, NamesWithoutSerialNumbersAreToldWhatToDo) {
  KernelImages images("imsm-5"), mirror("imsm-1");
  Files renamed;
  for (auto& [name, bytes] : files_of(images, "imsm-5", 3))
    renamed["disk-" + name.substr(name.size() - 1)] = bytes;
  Held held = open_beside("disk-0", renamed);
  EXPECT_EQ(sentence([&] { sum_of_entry(*held, 0); }),
            "Unsupported: a group whose disks are known by their serial numbers alone: put those into the "
            "names of the "
            "images (loop0, loop1, loop2)");
  Held alone = open_beside("disk-0", {{"disk-0", renamed["disk-0"]}});
  EXPECT_TRUE(has_finding(*alone, "2 of its 3 members are not beside this one"));
  Files copies;  // of which any will do
  for (auto& [name, bytes] : files_of(mirror, "imsm-1", 2))
    copies["disk-" + name.substr(name.size() - 1)] = bytes;
  Held one = open_beside("disk-1", copies);
  EXPECT_TRUE(one->findings().empty());
  EXPECT_EQ(sum_of_entry(*one, 0).sha256, device_sum("imsm-1").sha256);
}

TEST(ImsmGroup, DamageOfTheDescriptionIsNoGroup) {
  KernelImages images("imsm-0");
  Files files = files_of(images, "imsm-0", 2);
  files["imsm-0.loop0"][files["imsm-0.loop0"].size() - 1024 + 300] ^= 1;
  EXPECT_NE(open_beside("imsm-0.loop0", files).format(), "imsm");
}

/// Puts a number into a group's description in a member's image, which then fits its sum again.
void change_description(Bytes& image, std::size_t at, std::size_t width, std::uint64_t value) {
  constexpr std::size_t kBehind = 1024;
  Byte* front = image.data() + image.size() - kBehind;
  store_number(front + at, width, value);
  std::size_t sum_at = place_of(&imsm::Head::check_sum).at;
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < read_field(&imsm::Head::mpb_size, front); i += 4)
    if (i != sum_at) sum += load_little<std::uint32_t>(front + i);
  store_number(front + sum_at, 4, sum);
}

TEST(ImsmGroup, VolumesThatCannotBeOpenedAreNamed) {
  KernelImages images("imsm-0");
  constexpr std::size_t kDisks = 2, kVolumeAt = imsm::kDisksAt + kDisks * imsm::kDiskRowSize;
  constexpr std::size_t kMap = kVolumeAt + imsm::kMapAt;
  auto told = [&](const std::vector<std::array<std::size_t, 3>>& changes) {
    Files files = files_of(images, "imsm-0", kDisks);
    for (auto& [name, bytes] : files)
      for (auto [at, width, value] : changes) change_description(bytes, at, width, value);
    return sentence([&] { sum_of_entry(*open_beside("imsm-0.loop0", files), 0); });
  };
  EXPECT_EQ(told({{kMap + place_of(&imsm::Map::raid_level).at, 1, 6}}), "Unsupported: RAID of level 6");
  EXPECT_EQ(told({{kMap + place_of(&imsm::Map::pba_of_lba0_hi).at, 4, 0xFFFFFFFF}}),
            "RAID volume: it begins at sector 18446744069414584320, which is not possible");
}

/// The header that a member's image has, or its copy.
ddf::Header header_in(const Bytes& image) {
  ddf::Header found;
  for (std::size_t sector = 0; sector + 512 <= image.size(); sector += 512)
    if (load_number(&image[sector], 4, std::endian::big) == ddf::header_signature)
      found = read_structure<ddf::Header>(&image[sector]);
  return found;
}

/// Puts a byte into all of a set's records in a member's image, which then fit their sums again.
void change_records(Bytes& image, std::size_t at, Byte value) {
  std::size_t size = header_in(image).record_size * std::size_t{512};
  for (std::size_t sector = 0; size > 0 && sector + size <= image.size(); sector += 512) {
    Byte* front = image.data() + sector;
    if (load_number(front, 4, std::endian::big) != ddf::configuration_signature) continue;
    front[at] = value;
    std::fill_n(front + 4, 4, Byte{0xFF});
    store_number(front + 4, 4, crc32_plain(0, {front, size}), std::endian::big);
  }
}

TEST(DdfGroup, LevelsThatAreNotKnownAreNamed) {
  auto told = [](const std::string& set, std::size_t members, std::size_t at, Byte value) {
    KernelImages images(set);
    Files files = files_of(images, set, members);
    for (auto& [name, bytes] : files) change_records(bytes, at, value);
    return sentence([&] { sum_of_entry(*open_beside(set + ".loop0", files), 0); });
  };
  EXPECT_EQ(told("ddf-1", 2, place_of(&ddf::Configuration::level).at, 9),
            "Unsupported: RAID of level 0x9 with qualifier 0");
  EXPECT_EQ(told("ddf-10", 4, place_of(&ddf::Configuration::secondary_level).at, 9),
            "Unsupported: RAID of secondary level 9");
  KernelImages images("ddf-1");
  Bytes first = to_bytes(images.folder().read("ddf-1.loop0"));
  std::size_t begins_at = ddf::kMembersAt + header_in(first).most_members * std::size_t{4};
  EXPECT_TRUE(has(told("ddf-1", 2, begins_at, 0xFF), "which is not possible"));
}

}  // namespace
}  // namespace operculum::test

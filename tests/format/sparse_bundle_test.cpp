// Sparse bundles, as folders that are written here.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "support/open.h"
#include "support/sample_tree.h"

namespace operculum {
namespace {

using namespace test;

constexpr std::size_t kBand = 4096;

std::string list_of(std::size_t size, std::size_t band = kBand) {
  return fmt::format(
      "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist version=\"1.0\">\n<dict>\n"
      "<key>bundle-backingstore-version</key><integer>1</integer>\n"
      "<key>diskimage-bundle-type</key><string>com.apple.diskimage.sparsebundle</string>\n"
      "<key>band-size</key><integer>{}</integer>\n<key>size</key><integer>{}</integer>\n</dict>\n</plist>\n",
      band, size);
}

TEST(SparseBundle, BandsZerosAndAShortLastOne) {
  Bytes first = noise(kBand, 1), third = noise(100, 2);
  Held held = open_beside("Info.plist", {{"Info.plist", to_bytes(list_of(17 * kBand))},
                                         {"bands/0", first},
                                         {"bands/2", third},
                                         {"bands/10", Bytes(kBand, 'x')}});
  ASSERT_EQ(held.format(), "sparse-bundle");
  std::string text = text_of(*held, 0);
  ASSERT_EQ(text.size(), 17 * kBand);
  EXPECT_EQ(text.substr(0, kBand), as_text(first));
  EXPECT_EQ(text.substr(kBand, kBand), std::string(kBand, '\0'));
  EXPECT_EQ(text.substr(2 * kBand, 101), std::string(as_text(third)) + '\0');
  EXPECT_EQ(text.substr(16 * kBand), std::string(kBand, 'x'));  // 10 is hexadecimal
  EXPECT_EQ(held->content(0)->source()->hole_at(kBand), kBand);
}

TEST(SparseBundle, MissingBandsAreTold) {
  Held held = open_beside("Info.plist", {{"Info.plist", to_bytes(list_of(2 * kBand))}});
  EXPECT_TRUE(has_finding(*held, "bands/0"));
}

TEST(SparseBundle, RefusesWhatCannotBe) {
  auto wrong = [](const Files& files) {
    try {
      open_beside("Info.plist", files);
    } catch (const Error& error) {
      return std::string(error.what());
    }
    return std::string("nothing");
  };
  EXPECT_EQ(wrong({{"Info.plist", to_bytes(list_of(kBand, 1000))}}),
            "sparse bundle: expected band-size to be a multiple of 512, found 1000");
  EXPECT_EQ(wrong({{"Info.plist", to_bytes(list_of(kBand))}, {"token", to_bytes("encrcdsa rest")}}),
            "encrypted image's head at offset 0: expected 76 bytes, found 13; the file may be cut short");
  std::string without = list_of(kBand);
  without.replace(without.find("<key>size"), 9, "<key>form");
  EXPECT_EQ(wrong({{"Info.plist", to_bytes(without)}}),
            "sparse bundle: expected a number \"size\" in the property list, found none");
}

}  // namespace
}  // namespace operculum

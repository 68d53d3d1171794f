#include "task/published_digest.h"

#include <gtest/gtest.h>

#include "base/error.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

const std::string kDigest(64, 'a'), kOther(64, 'b');

TEST(PublishedDigest, TakesADigestAsItIs) {
  EXPECT_EQ(published_sha256(std::string(64, 'A'), "tide.img"), kDigest);
}

TEST(PublishedDigest, FindsTheFileInAList) {
  test::TempFolder folder;
  std::string list = folder.write("SHA256SUMS", kOther + "  other.img\n" + kDigest + " *images/tide.img\n");
  EXPECT_EQ(published_sha256(list, folder.path("tide.img")), kDigest);
  std::string tagged =
      folder.write("CHECKSUMS", "SHA256 (other.img) = " + kOther + "\nSHA256 (tide.img) = " + kDigest + "\n");
  EXPECT_EQ(published_sha256(tagged, "tide.img"), kDigest);
}

TEST(PublishedDigest, SaysWhenTheFileIsNotListed) {
  test::TempFolder folder;
  std::string list = folder.write("SHA256SUMS", kOther + "  other.img\n");
  try {
    published_sha256(list, "tide.img");
    FAIL() << "found a digest that is not there";
  } catch (const Malformed& error) {
    EXPECT_NE(std::string(error.what()).find("has no SHA-256 of \"tide.img\""), std::string::npos)
        << error.what();
  }
}

}  // namespace
}  // namespace operculum

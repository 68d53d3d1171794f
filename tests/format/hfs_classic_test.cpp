// HFS: what lies in its trees.
#include <gtest/gtest.h>

#include "format/filesystem/hfs_records.h"
#include "support/byte_writer.h"
#include "support/kernel_images.h"

namespace operculum::test {
namespace {

constexpr std::size_t kNode = 512;

std::uint16_t number_at(const Bytes& image, std::size_t at) {
  return static_cast<std::uint16_t>(image[at] << 8 | image[at + 1]);
}

/// Each record of each leaf in turn gets a key that leaves no room for data.
TEST(HfsClassic, ARecordWithoutDataIsPassedOver) {
  KernelImages images("hfs");
  Bytes image = to_bytes(images.folder().read("hfs.img"));
  std::size_t tried = 0;
  for (std::size_t node = 0; node + kNode <= image.size(); node += kNode) {
    auto head = read_structure<hfs::NodeDescriptor>(image.data() + node);
    if (head.kind != hfs::leaf_node || head.height != 1) continue;
    for (std::size_t i = 0; i < head.record_count && (i + 2) * 2 <= kNode; ++i) {
      std::size_t begin = number_at(image, node + kNode - (i + 1) * 2),
                  end = number_at(image, node + kNode - (i + 2) * 2);
      if (begin >= end || end > kNode || end - begin > UINT8_MAX) continue;
      Bytes damaged = image;
      damaged[node + begin] = static_cast<Byte>(end - begin - 1);
      Held held = open_bytes(damaged, "gauge.img");
      ASSERT_EQ(held.format(), "hfs");
      EXPECT_FALSE(held->entries().empty() && held->findings().empty());
      ++tried;
    }
  }
  EXPECT_GT(tried, 10u);
}

}  // namespace
}  // namespace operculum::test

#include "io/solid_stream.h"

#include <gtest/gtest.h>

#include "base/error.h"
#include "support/refusal.h"
#include "support/sample_tree.h"

namespace operculum {
namespace {

using namespace test;

/// Gives bytes and then, where wanted, fails; counts what was read of it.
class Counted final : public Stream {
 public:
  Counted(const Bytes& bytes, std::uint64_t breaks_at, std::uint64_t& read)
      : bytes_(bytes), breaks_at_(breaks_at), read_(read) {}
  std::size_t read(ByteSpan out) override {
    if (at_ >= breaks_at_) throw Malformed("damage");
    std::size_t count =
        std::min<std::size_t>({out.size(), bytes_.size() - at_, static_cast<std::size_t>(breaks_at_ - at_)});
    std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(at_), count, out.begin());
    at_ += count;
    read_ += count;
    return count;
  }

 private:
  const Bytes& bytes_;
  std::uint64_t breaks_at_;
  std::uint64_t& read_;
  std::size_t at_ = 0;
};

struct SolidStreams : testing::Test {
  Bytes bytes = noise(100'000);
  std::uint64_t read = 0, opened = 0;

  std::shared_ptr<SolidStream> make(std::uint64_t breaks_at = UINT64_MAX) {
    return std::make_shared<SolidStream>([this, breaks_at]() -> StreamPtr {
      ++opened;
      return std::make_unique<Counted>(bytes, breaks_at, read);
    });
  }
  Bytes expected(std::size_t from, std::size_t length) const {
    return Bytes(bytes.begin() + static_cast<std::ptrdiff_t>(from),
                 bytes.begin() + static_cast<std::ptrdiff_t>(from + length));
  }
};

TEST_F(SolidStreams, ReadInOrderAreDecodedOnce) {
  auto solid = make();
  for (std::size_t at = 0; at < bytes.size(); at += 1000)
    EXPECT_EQ(read_all(*solid->part(at, 1000)->stream(), 1000), expected(at, 1000));
  EXPECT_EQ(opened, 1u);
  EXPECT_EQ(read, bytes.size());
}

TEST_F(SolidStreams, GoBackByDecodingAgain) {
  auto solid = make();
  EXPECT_EQ(read_all(*solid->part(50'000, 10)->stream(), 10), expected(50'000, 10));
  EXPECT_EQ(read_all(*solid->part(10, 10)->stream(), 10), expected(10, 10));
  EXPECT_EQ(opened, 2u);
  EXPECT_EQ(read_all(*solid->part(50'010, 10)->stream(), 10), expected(50'010, 10))
      << "the first reader was kept";
  EXPECT_EQ(opened, 2u);
}

TEST_F(SolidStreams, PartsThatPassTheEndAreCutShort) {
  auto solid = make();
  StreamPtr part = solid->part(99'990, 20)->stream();
  EXPECT_REFUSAL(read_all(*part, 20), CutShort,
                 "the packed data around it ends after 100000 bytes; 10 more are missing here");
}

TEST_F(SolidStreams, BehindDamageNothingIsDecodedAgain) {
  auto solid = make(30'000);
  EXPECT_EQ(read_all(*solid->part(29'000, 1000)->stream(), 1000), expected(29'000, 1000)) << "in front of it";
  EXPECT_REFUSAL(read_all(*solid->part(40'000, 10)->stream(), 10), Malformed, "damage");
  std::uint64_t before = read;
  for (int i = 0; i < 5; ++i)
    EXPECT_REFUSAL(read_all(*solid->part(50'000 + static_cast<std::uint64_t>(i), 10)->stream(), 10),
                   Malformed, "damage");
  EXPECT_EQ(read, before) << "what lies behind damage is known to be lost";
}

}  // namespace
}  // namespace operculum

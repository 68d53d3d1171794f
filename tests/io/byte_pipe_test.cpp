#include "io/byte_pipe.h"

#include <gtest/gtest.h>

#include <atomic>
#include <thread>

#include "base/error.h"
#include "support/refusal.h"
#include "support/sample_tree.h"

namespace operculum::test {
namespace {

TEST(BytePipe, GivesEverythingInOrderAndLetsTheSenderWait) {
  BytePipe pipe;
  Bytes all = noise(5 << 20, 1);
  constexpr std::size_t kPiece = 100'000;
  std::atomic<std::size_t> sent{0}, got{0}, most{0};
  std::thread sender([&] {
    for (std::size_t at = 0; at < all.size(); at += kPiece) {
      sent += kPiece;
      pipe.send(ByteView(all).subspan(at, std::min(kPiece, all.size() - at)));
      most = std::max(most.load(), sent - got);
    }
    pipe.end();
  });
  EXPECT_FALSE(pipe.ends_within(kPiece));
  Bytes out;
  Bytes block(70'000);
  while (std::size_t count = pipe.read(block)) {
    out.insert(out.end(), block.begin(), block.begin() + static_cast<std::ptrdiff_t>(count));
    got += count;
  }
  sender.join();
  EXPECT_TRUE(out == all);
  EXPECT_LE(most, kPipeBytes + kPiece + block.size());
  EXPECT_TRUE(pipe.ends_within(0));
}

TEST(BytePipe, HandsOutWhatCameBeforeAnError) {
  BytePipe pipe;
  pipe.send(noise(100, 2));
  pipe.end(std::make_exception_ptr(Malformed("cut")));
  Bytes block(1000);
  EXPECT_EQ(pipe.read(block), 100u);
  EXPECT_REFUSAL(pipe.read(block), Malformed, "cut");
  EXPECT_REFUSAL(pipe.ends_within(1), Malformed, "cut");
}

TEST(BytePipe, EndsASenderThatNobodyReads) {
  BytePipe pipe;
  pipe.send(noise(kPipeBytes, 3));
  std::thread reader([&] { pipe.abandon(); });
  EXPECT_THROW(pipe.send(noise(1, 4)), BytePipe::NobodyReads);
  reader.join();
}

}  // namespace
}  // namespace operculum::test

#include "codec/window_stream.h"

#include <gtest/gtest.h>

#include "support/sample_tree.h"

namespace operculum {
namespace {

using namespace test;

struct Step {
  std::uint64_t distance = 0, length = 0;  // distance 0: literals
  char byte = 0;
};

/// Does what a list of steps says.
class Steps final : public WindowStream {
 public:
  Steps(std::size_t window, std::vector<Step> steps, std::optional<std::uint64_t> size = std::nullopt)
      : WindowStream(window, size), steps_(std::move(steps)) {}

 private:
  bool next() override {
    if (at_ == steps_.size()) return false;
    const Step& step = steps_[at_++];
    if (step.distance == 0) {
      literal(static_cast<Byte>(step.byte));
    } else {
      copy(step.distance, step.length);
    }
    return true;
  }

  std::vector<Step> steps_;
  std::size_t at_ = 0;
};

std::string made(std::size_t window, std::vector<Step> steps,
                 std::optional<std::uint64_t> size = std::nullopt, std::size_t piece = 1 << 16) {
  Steps stream(window, std::move(steps), size);
  std::string all;
  Bytes buffer(piece);
  while (std::size_t count = stream.read(buffer)) all += as_text(ByteView(buffer).first(count));
  return all;
}

TEST(WindowStream, CopiesWhatWasMade) {
  std::vector<Step> steps = {{0, 0, 'a'}, {0, 0, 'b'}, {2, 4, 0}, {0, 0, 'c'}, {1, 3, 0}};
  EXPECT_EQ(made(4096, steps), "abababcccc");
  for (std::size_t piece : {1u, 2u, 3u, 7u})
    EXPECT_EQ(made(4096, steps, std::nullopt, piece), "abababcccc") << piece;
}

TEST(WindowStream, HasZerosInFrontOfTheFirstByte) {
  EXPECT_EQ(made(4096, {{4096, 3, 0}, {0, 0, 'a'}}), std::string("\0\0\0a", 4));
}

TEST(WindowStream, EndsAtItsSizeWithinACopy) {
  EXPECT_EQ(made(4096, {{0, 0, 'x'}, {1, 1'000'000, 0}}, 5), "xxxxx");
  EXPECT_EQ(made(4096, {{0, 0, 'x'}}, 0), "");
  EXPECT_EQ(made(4096, {{0, 0, 'x'}}, 9), "x") << "the data ends before";
}

TEST(WindowStream, ReachesBackAWholeWindowAcrossTheRing) {
  for (std::size_t window : {4096u, 8192u, 1u << 15}) {
    std::vector<Step> steps;
    std::string expected;
    for (std::size_t i = 0; i < window; ++i) {
      char byte = static_cast<char>('a' + i % 23);
      steps.push_back({0, 0, byte});
      expected += byte;
    }
    for (int round = 0; round < 5; ++round) {
      steps.push_back({window, window - 1, 0});
      for (std::size_t i = 0; i + 1 < window; ++i) expected += expected[expected.size() - window];
      steps.push_back({0, 0, '!'});
      expected += '!';
      steps.push_back({3, 5000, 0});
      for (int i = 0; i < 5000; ++i) expected += expected[expected.size() - 3];
    }
    EXPECT_EQ(made(window, steps), expected) << window;
    EXPECT_EQ(made(window, steps, std::nullopt, 100), expected) << window;
  }
}

}  // namespace
}  // namespace operculum

#pragma once

namespace operculum {

/// Counts how deep a recursion over input is while it lives, and calls `fail`, which throws, when that is
/// more than `most`: without one, a file could end the program by using up its stack.
class DepthGuard {
 public:
  template <typename Fail>
  DepthGuard(int& depth, int most, const Fail& fail) : depth_(depth) {
    if (depth_ >= most) fail();
    ++depth_;
  }
  ~DepthGuard() { --depth_; }
  DepthGuard(const DepthGuard&) = delete;
  DepthGuard& operator=(const DepthGuard&) = delete;

 private:
  int& depth_;
};

}  // namespace operculum

#pragma once

#include <atomic>
#include <cstdint>

#include "base/error.h"

namespace operculum {

/// Guards against containers made to exhaust a machine. Each has an option of the same name that raises it.
struct Limits {
  std::uint64_t max_entries = 20'000'000;
  std::uint64_t max_total = std::uint64_t{4} << 40;  ///< unpacked bytes in one run
  std::uint64_t max_ratio = 2000;  ///< unpacked to stored, counted from kRatioFloor bytes on
  std::uint64_t max_depth = 24;    ///< containers inside each other
  std::uint64_t max_spool = std::uint64_t{64} << 30;  ///< temporary bytes for inner containers
};

/// A guard that ends the whole run, not only the entry at hand.
class GuardTripped : public LimitExceeded {
 public:
  using LimitExceeded::LimitExceeded;
};

/// Counts what a run unpacks and throws GuardTripped when a guard is passed. Safe to share between threads.
class Meter {
 public:
  /// `stored` is the size of the outermost file, in bytes.
  Meter(const Limits& limits, std::uint64_t stored) : limits_(limits), stored_(stored) {}
  void add(std::uint64_t bytes);
  std::uint64_t total() const { return total_; }

  /// Unpacked bytes below which no ratio is suspicious: deflate alone reaches 1000 to 1 on an empty disk
  /// image.
  static constexpr std::uint64_t kRatioFloor = std::uint64_t{256} << 20;

 private:
  const Limits& limits_;
  std::uint64_t stored_;
  std::atomic<std::uint64_t> total_{0};
};

}  // namespace operculum

#pragma once

#include <atomic>
#include <cstdint>
#include <memory>
#include <optional>

#include "base/error.h"
#include "container/entry.h"

namespace operculum {

/// A guard that ends the whole run, not only the entry at hand.
class GuardTripped : public LimitExceeded {
 public:
  using LimitExceeded::LimitExceeded;
};

/// What a run has used up of its guards, over all containers and every layer of them. Safe to share between
/// threads.
struct Spent {
  std::atomic<std::uint64_t> stored{
      0};  ///< bytes that the outermost file really takes: what all else is held against
  std::atomic<std::uint64_t> reached{0};   ///< how far the outermost file was read, in bytes
  std::atomic<std::uint64_t> size{0};      ///< of the outermost file
  std::atomic<std::uint64_t> entries{0};   ///< met in all containers
  std::atomic<std::uint64_t> retained{0};  ///< bytes of memory that listings keep
  std::atomic<std::uint64_t> spooled{0};   ///< bytes decoded to give inner containers random access
};

/// Guards against containers made to exhaust a machine. Each has an option of the same name that raises it.
/// They hold for a whole run: copies count together.
struct Limits {
  static constexpr std::uint64_t kMostEntries = 20'000'000;

  std::uint64_t max_entries =
      kMostEntries;  ///< unless raised, also no more than kFreeEntries and one a stored byte
  std::uint64_t max_total = std::uint64_t{4} << 40;  ///< unpacked bytes in one run
  std::uint64_t max_ratio = 2000;  ///< unpacked to stored, counted from kRatioFloor bytes on
  std::uint64_t max_depth = 24;    ///< containers inside each other
  std::uint64_t max_spool = std::uint64_t{64} << 30;  ///< temporary bytes for inner containers
  std::uint64_t max_memory =
      0;  ///< bytes that listings keep; 0: kFreeMemory and kMemoryFactor for each stored byte
  std::shared_ptr<Spent> spent = std::make_shared<Spent>();

  static constexpr std::uint64_t kFreeEntries = 100'000;
  static constexpr std::uint64_t kFreeMemory = std::uint64_t{160} << 20;
  static constexpr std::uint64_t kMemoryFactor = 16;

  /// A new target: everything is counted from 0, and held against `stored` of its `size` bytes; both are 0
  /// for one that only comes in, of which count_came() tells.
  void begin(std::uint64_t size, std::uint64_t stored) const;
  void count_came(std::uint64_t bytes) const { spent->stored += bytes; }

  // Each counts, and throws GuardTripped when more was used up than is allowed.
  void count_entry() const { count_entries(1); }
  void count_entries(std::uint64_t more) const;
  void count_kept(const Entry& entry) const;  ///< an entry that a container keeps
  void count_retained(std::uint64_t bytes) const;
  void count_spooled(std::uint64_t bytes) const;
};

/// Counts what a run unpacks and throws GuardTripped when a guard is passed. Safe to share between threads.
class Meter {
 public:
  /// `stored` is what all is held against, in bytes; without it, what is known by then of the outermost file.
  explicit Meter(const Limits& limits, std::optional<std::uint64_t> stored = std::nullopt)
      : limits_(limits), stored_(stored) {}
  void add(std::uint64_t bytes);
  std::uint64_t total() const { return total_; }

  /// Unpacked bytes below which no ratio is suspicious: deflate alone reaches 1000 to 1 on an empty disk
  /// image.
  static constexpr std::uint64_t kRatioFloor = std::uint64_t{256} << 20;

 private:
  const Limits& limits_;
  std::optional<std::uint64_t> stored_;
  std::atomic<std::uint64_t> total_{0};
};

}  // namespace operculum

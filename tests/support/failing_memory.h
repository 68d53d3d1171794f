#pragma once

#include <cstdint>

namespace operculum::test {

/// While it lives, the n-th `new` from its beginning on (from 1) throws std::bad_alloc, on whichever thread.
class FailingMemory {
 public:
  explicit FailingMemory(std::int64_t nth);
  ~FailingMemory();
  FailingMemory(const FailingMemory&) = delete;
  FailingMemory& operator=(const FailingMemory&) = delete;

  bool reached() const;
};

/// What was taken with `new` since it began, on all threads.
class MemoryMeter {
 public:
  MemoryMeter();
  ~MemoryMeter();
  MemoryMeter(const MemoryMeter&) = delete;
  MemoryMeter& operator=(const MemoryMeter&) = delete;

  std::uint64_t allocations() const;
  std::uint64_t bytes() const;
};

}  // namespace operculum::test

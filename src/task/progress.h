#pragma once

#include <atomic>
#include <cstdint>

namespace operculum {

/// How far a task is; written by the task, read by whoever shows it.
struct Progress {
  std::atomic<std::uint64_t> bytes{0};        ///< unpacked so far
  std::atomic<std::uint64_t> total_bytes{0};  ///< expected; 0 while not known
  std::atomic<std::uint64_t> entries{0};
  std::atomic<bool> stop{false};  ///< set from outside to end the task early, at a clean place
};

}  // namespace operculum

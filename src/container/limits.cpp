#include "container/limits.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/units.h"

namespace operculum {

void Limits::begin(std::uint64_t size, std::uint64_t stored) const {
  spent->size = size;
  spent->stored = stored;
  spent->reached = 0;
  spent->entries = spent->retained = spent->spooled = 0;
}

void Limits::count_entries(std::uint64_t more) const {
  std::uint64_t count = spent->entries += more;
  std::uint64_t most = max_entries;
  if (max_entries == kMostEntries) most = std::min(most, kFreeEntries + spent->stored);
  if (count > most) {
    throw GuardTripped(fmt::format(
        "more than {} entries in all containers of a file of {}, as in files made to be endless; if that is "
        "right, raise --max-entries",
        grouped(most), human_size(spent->stored)));
  }
}

void Limits::count_kept(const Entry& entry) const {
  count_entry();
  count_retained(memory_of(entry));
}

void Limits::count_retained(std::uint64_t bytes) const {
  std::uint64_t retained = spent->retained += bytes;
  std::uint64_t most = max_memory != 0 ? max_memory : kFreeMemory + kMemoryFactor * spent->stored;
  if (retained > most) {
    throw GuardTripped(
        fmt::format("listing a file of {} takes more than {} of memory; if that is right, raise --max-memory",
                    human_size(spent->stored), human_size(most)));
  }
}

void Limits::count_spooled(std::uint64_t bytes) const {
  std::uint64_t total = spent->spooled += bytes;
  if (total > Meter::kRatioFloor && total / max_ratio > spent->stored) {
    throw GuardTripped(
        fmt::format("inner containers of {} came out of {}, more than {} to 1, as files made to fill a disk "
                    "do; if that is right, "
                    "raise --max-ratio",
                    human_size(total), human_size(spent->stored), max_ratio));
  }
}

void Meter::add(std::uint64_t bytes) {
  std::uint64_t total = total_ += bytes;
  if (total > limits_.max_total) {
    throw GuardTripped(fmt::format("more than {} were unpacked; if that is right, raise --max-total",
                                   human_size(limits_.max_total)));
  }
  std::uint64_t stored = stored_.value_or(limits_.spent->stored);
  if (total > kRatioFloor && total / limits_.max_ratio > stored) {
    throw GuardTripped(fmt::format(
        "{} came out of {}, more than {} to 1, as files made to fill a disk do; if that is right, raise "
        "--max-ratio",
        human_size(total), human_size(stored), limits_.max_ratio));
  }
}

}  // namespace operculum

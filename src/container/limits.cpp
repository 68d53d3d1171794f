#include "container/limits.h"

#include <fmt/format.h>

#include "base/units.h"

namespace operculum {

void Meter::add(std::uint64_t bytes) {
  std::uint64_t total = total_ += bytes;
  if (total > limits_.max_total) {
    throw GuardTripped(fmt::format("more than {} were unpacked; if that is right, raise --max-total",
                                   human_size(limits_.max_total)));
  }
  if (total > kRatioFloor && total / limits_.max_ratio > stored_) {
    throw GuardTripped(fmt::format(
        "{} came out of {}, more than {} to 1, as files made to fill a disk do; if that is right, raise "
        "--max-ratio",
        human_size(total), human_size(stored_), limits_.max_ratio));
  }
}

}  // namespace operculum

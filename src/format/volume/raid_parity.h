#pragma once

#include <optional>
#include <vector>

#include "base/bytes.h"

namespace operculum {

// The two sums of RAID 6 (H. P. Anvin, "The mathematics of RAID-6", 2004): P is the exclusive-or of all data,
// Q the sum of each times a power of 2 in GF(2^8) with the polynomial 0x11d.

/// Part of a stripe: data with its power in Q, or one of the sums.
struct StripePart {
  enum class Kind { data, p, q };
  Kind kind = Kind::data;
  unsigned power = 0;               ///< of data
  std::optional<Bytes> bytes = {};  ///< nothing: missing
};

/// Computes the part at `wanted`, which is missing, from the others; `length` bytes. Throws Malformed where
/// too many are missing.
Bytes rebuild_part(const std::vector<StripePart>& stripe, std::size_t wanted, std::size_t length);

}  // namespace operculum

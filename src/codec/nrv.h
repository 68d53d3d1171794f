#pragma once

#include <optional>

#include "io/stream.h"

namespace operculum {

/// The three codes of the NRV family of LZ77 (M. F. X. J. Oberhumer, 1996), which write lengths and the upper
/// parts of distances as gamma codes, most of their bits between bits that tell whether more follow.
enum class NrvForm { b, d, e };

/// A form of the packing, and how its bits lie.
struct NrvDialect {
  NrvForm form = NrvForm::b;
  unsigned word = 8;  ///< bits lie in little-endian words of 8, 16 or 32 bits, the highest of each first
};

/// Decodes. `size` is the unpacked size in bytes, where known; an end mark ends the data, too. Throws
/// Malformed.
StreamPtr open_nrv(StreamPtr packed, const NrvDialect& dialect, std::optional<std::uint64_t> size);

}  // namespace operculum

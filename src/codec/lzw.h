#pragma once

#include <optional>

#include "io/stream.h"

namespace operculum {

/// A dialect of LZW (T. Welch, 1984): codes that grow from `least` to `most` bits; 0 to 255 are bytes.
struct LzwDialect {
  unsigned least = 9, most = 12;       ///< bits of a code, 9 to 16
  std::optional<unsigned> clear, end;  ///< codes that empty the table and end the data, 256 or more
  bool high_first = false;             ///< bits from the highest of each byte on
  bool early = false;                  ///< codes grow one entry before they have to
};

/// Decodes; `size` is the unpacked size in bytes, where known. Throws Malformed.
StreamPtr open_lzw(StreamPtr packed, const LzwDialect& dialect, std::optional<std::uint64_t> size);

}  // namespace operculum

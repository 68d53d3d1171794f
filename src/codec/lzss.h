#pragma once

#include <optional>
#include <string>

#include "io/stream.h"

namespace operculum {

/// A dialect of LZSS: literals and copies told apart by flag bits (J. Storer and T. Szymanski, 1982; the ring
/// buffer form is H. Okumura's of 1989). The defaults are the most common dialect.
struct LzssDialect {
  std::uint64_t window = 4096;  ///< bytes; a power of two when positions are those of the ring
  std::uint64_t least = 3;      ///< bytes of the shortest copy
  bool flags_from_low = true;   ///< the lowest bit of a flag byte comes first
  unsigned flag_bytes = 1;      ///< 1, 2 or 4; the low byte first
  bool literal_flag = true;     ///< the value of a flag that announces a literal
  std::uint64_t start = 4078;   ///< where in the ring the first byte is written
  Byte fill = 0x20;             ///< what the ring holds at first
  bool ring = true;             ///< offsets are positions in the ring; else distances back
  std::uint64_t nearest = 1;    ///< the distance that offset 0 means
  std::string token =
      "pppppppp PPPPllll";  ///< the bits of a copy in order: low and high part of offset and length
  unsigned longer =
      0;  ///< with the greatest length: 1: one more byte is added; 2: bytes are added until one is not 255
  bool stops = false;  ///< a copy with offset 0 and length field 0 ends the data
};

/// Throws Malformed when the dialect contradicts itself.
void check_dialect(const LzssDialect& dialect);

/// `plain` in this dialect, in the fewest bits that it allows. Throws Malformed when the dialect contradicts
/// itself.
Bytes pack_lzss(ByteView plain, const LzssDialect& dialect);

/// Throws Malformed when the dialect contradicts itself. Ends with the input, after `size` bytes, or at a
/// stop.
StreamPtr open_lzss(StreamPtr packed, const LzssDialect& dialect, std::optional<std::uint64_t> size);

}  // namespace operculum

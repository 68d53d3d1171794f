#pragma once

#include "io/stream.h"

namespace operculum {

/// How data is cut for XTS.
struct XtsUnits {
  Bytes first;  ///< number of the first unit, lowest byte first; missing bytes are zeros; counts up
  std::size_t size = 512;  ///< of a unit, in bytes
};

/// Decrypts XTS-AES (IEEE 1619-2018): two AES keys of 16 or 32 bytes, one behind the other. Of a last unit
/// that is not made of whole blocks the ciphertext is stolen; a rest below 16 bytes is passed on as it is.
/// Throws NeedsKey when the key's length does not fit, Malformed when a unit has below 16 bytes or more than
/// 16 MiB.
StreamPtr open_xts(StreamPtr stored, ByteView key, const XtsUnits& units);

/// The other way.
StreamPtr seal_xts(StreamPtr plain, ByteView key, const XtsUnits& units);

}  // namespace operculum

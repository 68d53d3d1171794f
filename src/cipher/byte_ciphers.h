#pragma once

#include "io/stream.h"

namespace operculum {

/// How a key byte changes a data byte.
enum class Mix { exclusive_or, add, subtract };

/// A key repeated over the data; `start` is the place in the key that meets the first byte.
StreamPtr open_repeated_key(StreamPtr stored, Mix mix, Bytes key, std::uint64_t start);

/// Every byte rotated to the left by so many bits.
StreamPtr open_rotated(StreamPtr stored, unsigned bits);

/// A linear congruential key stream modulo 2^32: the state becomes state * factor + summand before each byte,
/// and state >> shift is the key byte.
struct Congruential {
  std::uint32_t seed, factor, summand;
  unsigned shift;
};
StreamPtr open_congruential(StreamPtr stored, Mix mix, const Congruential& generator);

/// RC4, whose first `skip` key bytes are passed over.
StreamPtr open_rc4(StreamPtr stored, ByteView key, std::uint64_t skip);

}  // namespace operculum

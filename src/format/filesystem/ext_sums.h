#pragma once

#include "base/checksum.h"
#include "base/numbers.h"

/// CRC-32C as ext4 takes it of its metadata.
namespace operculum::ext {

/// Continued with a number of so many bytes, little-endian.
inline std::uint32_t with_number(std::uint32_t seed, std::uint64_t number, std::size_t bytes) {
  Byte raw[8];
  store_number(raw, bytes, number);
  return crc32c(seed, {raw, bytes});
}

/// Of `bytes` with `count` bytes at `hole`, where the checksum itself lies, taken as zeros; 4 at most.
inline std::uint32_t sum_without(std::uint32_t seed, ByteView bytes, std::size_t hole, std::size_t count) {
  static constexpr Byte kZeros[4] = {};
  std::uint32_t sum = crc32c(seed, bytes.first(hole));
  sum = crc32c(sum, {kZeros, count});
  return crc32c(sum, bytes.subspan(hole + count));
}

}  // namespace operculum::ext

#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <string>

#include "base/bytes.h"

namespace operculum {

/// CRC-32 (ISO 3309, ITU-T V.42), continued from `crc`; start with 0.
std::uint32_t crc32(std::uint32_t crc, ByteView bytes);

/// The CRC-32 of the same polynomial with neither start nor end inverted, as file systems keep it: continued
/// from `crc`.
inline std::uint32_t crc32_plain(std::uint32_t crc, ByteView bytes) {
  return ~crc32(~crc, bytes);
}

/// CRC-32C (RFC 3720, appendix B.4) of the Castagnoli polynomial, without the final exclusive-or: continued
/// from `crc`; file systems start with all ones.
std::uint32_t crc32c(std::uint32_t crc, ByteView bytes);

/// Whether a checksum is the one that is stored. In builds for fuzzing every one is, so that what lies behind
/// a checksum is reached, too.
constexpr bool sum_fits([[maybe_unused]] std::uint64_t own, [[maybe_unused]] std::uint64_t stored) {
#ifdef FUZZING_BUILD_MODE_UNSAFE_FOR_PRODUCTION
  return true;
#else
  return own == stored;
#endif
}

/// The CRC-32 of two runs joined, from their own CRCs and the length of the second in bytes.
std::uint32_t crc32_combine(std::uint32_t first, std::uint32_t second, std::uint64_t second_length);

/// SHA-256 (FIPS 180-4) over bytes given in pieces.
class Sha256 {
 public:
  Sha256();
  ~Sha256();
  Sha256(const Sha256&) = delete;
  Sha256& operator=(const Sha256&) = delete;
  void add(ByteView bytes);
  void add_zeros(std::uint64_t count);
  std::string finish_hex();  ///< 64 lower-case digits; call once

 private:
  struct State;
  std::unique_ptr<State> state_;
};

std::string sha256_hex(ByteView bytes);

}  // namespace operculum

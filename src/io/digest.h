#pragma once

#include <functional>
#include <optional>
#include <string>

#include "io/stream.h"

namespace operculum {

/// SHA-256 over all bytes of a source, as 64 lower-case digits.
std::string sha256_of(const Source& source);

/// A digest or checksum, by a name that find_sum() knows, over all that is left of a stream, in lower-case
/// digits.
std::string stream_digest(Stream& stream, std::string_view sum);

/// Which sums are taken.
enum class Sums { crc32, sha256, both };

/// What reading a stream to its end tells of it.
struct StreamSums {
  std::uint64_t size = 0;              ///< in bytes
  std::optional<std::uint32_t> crc32;  ///< where it was asked for
  std::string sha256;                  ///< 64 lower-case digits, where it was asked for
};

/// `watch` is called with the number of bytes after each step. Throws what the stream and `watch` throw.
StreamSums sums_of_stream(Stream& stream, Sums sums, const std::function<void(std::uint64_t)>& watch);

}  // namespace operculum

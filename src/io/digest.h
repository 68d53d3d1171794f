#pragma once

#include <string>

#include "io/stream.h"

namespace operculum {

/// SHA-256 over all bytes of a source, as 64 lower-case digits.
std::string sha256_of(const Source& source);

/// A digest or checksum, by a name that find_sum() knows, over all that is left of a stream, in lower-case
/// digits.
std::string stream_digest(Stream& stream, std::string_view sum);

}  // namespace operculum

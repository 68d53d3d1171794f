#pragma once

#include <cstddef>
#include <cstdint>
#include <span>
#include <string_view>
#include <vector>

namespace operculum {

using Byte = std::uint8_t;
using Bytes = std::vector<Byte>;         // owned
using ByteView = std::span<const Byte>;  // borrowed, read-only
using ByteSpan = std::span<Byte>;        // borrowed, to be filled

/// The characters of `text` as bytes; borrows.
inline ByteView as_bytes(std::string_view text) {
  return {reinterpret_cast<const Byte*>(text.data()), text.size()};
}

/// The bytes as characters; borrows.
inline std::string_view as_text(ByteView bytes) {
  return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

/// True when `bytes` begins with `mark`.
inline bool starts_with(ByteView bytes, std::string_view mark) {
  return as_text(bytes).starts_with(mark);
}

}  // namespace operculum

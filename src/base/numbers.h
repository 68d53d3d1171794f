#pragma once

#include <bit>

#include "base/bytes.h"

namespace operculum {

// Numbers of up to 8 bytes, of a width and in an order that only the data tells; where both are known
// beforehand, base/structure.h is shorter.

inline std::uint64_t load_number(const Byte* bytes, std::size_t width, std::endian order) {
  std::uint64_t value = 0;
  for (std::size_t i = 0; i < width; ++i)
    value = value << 8 | bytes[order == std::endian::big ? i : width - 1 - i];
  return value;
}

/// The low `width` bytes of `value`.
inline void store_number(Byte* bytes, std::size_t width, std::uint64_t value,
                         std::endian order = std::endian::little) {
  for (std::size_t i = 0; i < width; ++i)
    bytes[order == std::endian::big ? width - 1 - i : i] = static_cast<Byte>(value >> (8 * i));
}

inline void append_number(Bytes& out, std::size_t width, std::uint64_t value,
                          std::endian order = std::endian::little) {
  out.resize(out.size() + width);
  store_number(out.data() + out.size() - width, width, value, order);
}

}  // namespace operculum

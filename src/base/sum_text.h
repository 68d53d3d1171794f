#pragma once

#include <fmt/format.h>

#include <cstdint>
#include <string>

namespace operculum {

/// What a message tells of a checksum that is another: " (stored 2f23af2f, computed 79278316)".
inline std::string told_sums(std::uint32_t stored, std::uint32_t computed) {
  return fmt::format(" (stored {:08x}, computed {:08x})", stored, computed);
}

/// The same of one that makes all words add up to 0: " (its words add up to 79278316, not to 0)".
inline std::string told_total(std::uint32_t total) {
  return fmt::format(" (its words add up to {:08x}, not to 0)", total);
}

}  // namespace operculum

#pragma once

#include <fmt/format.h>

#include <cstdint>
#include <string>

namespace operculum {

/// What a message tells of a checksum that is another: " (stored 2f23af2f, computed 79278316)". `digits` are
/// those of its width.
inline std::string told_sums(std::uint32_t stored, std::uint32_t computed, int digits = 8) {
  return fmt::format(" (stored {:0{}x}, computed {:0{}x})", stored, digits, computed, digits);
}

/// The same of one that makes all words add up to 0: " (its words add up to 79278316, not to 0)".
inline std::string told_total(std::uint32_t total) {
  return fmt::format(" (its words add up to {:08x}, not to 0)", total);
}

}  // namespace operculum

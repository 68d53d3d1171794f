#pragma once

#include "io/source.h"

namespace operculum {

/// A part of a flash chip that its map names.
struct FlashArea {
  std::string name;
  std::uint64_t at = 0, size = 0;  ///< bytes
  std::uint16_t flags = 0;         ///< 1: static, 2: compressed, 4: read-only
};

/// A map of a flash chip, and where it was found.
struct FlashMap {
  std::uint64_t at = 0, base = 0, size = 0;  ///< where the map lies; the chip's address and size in bytes
  std::string name;
  std::vector<FlashArea> areas;
};

/// The map of a flash image ("__FMAP__", version 1), wherever it lies; nothing when there is none.
std::optional<FlashMap> find_flash_map(const Source& bytes);

}  // namespace operculum

#pragma once

#include "container/container.h"

namespace operculum::iso {

/// An image that a machine starts from, outside the folders.
struct BootImage {
  std::string name;
  std::uint64_t at = 0, size = 0;  ///< bytes
};

/// The entries of the boot catalog at `place` (El Torito specification 1.0, section 2). Damage ends the list.
std::vector<BootImage> read_boot_catalog(const Source& image, std::uint64_t place);

}  // namespace operculum::iso

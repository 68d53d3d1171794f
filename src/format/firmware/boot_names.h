#pragma once

#include <cstdint>
#include <string>

namespace operculum {

// What the numbers of a boot image header stand for (include/image.h of the boot loader that defined them).
std::string boot_os_name(std::uint8_t os);
std::string boot_arch_name(std::uint8_t arch);
std::string boot_type_name(std::uint8_t type);
std::string boot_comp_name(std::uint8_t comp);

}  // namespace operculum

#pragma once

#include "container/format.h"

namespace operculum {

struct FlashPartition;

// The formats of boot images, updates and firmware, each made in the file of its name; registry.cpp puts them
// in order.

Format boot_image_format();
Format device_tree_format();
Format fit_format();
Format android_boot_format();
Format vendor_boot_format();
Format device_upgrade_format();
Format kernel_format();
Format initramfs_format();
Format fip_format();
Format mcuboot_format();
Format option_rom_format();
Format microcode_format();
Format coreboot_format();
Format uefi_format();
Format intel_hex_format();
Format s_record_format();
Format ti_text_format();
Format verilog_hex_format();
Format uf2_format();

/// Not in the registry: cuts the file that is named into these parts.
Format cut_file_format(std::vector<FlashPartition> partitions);

}  // namespace operculum

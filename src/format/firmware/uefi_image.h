#pragma once

#include "format/firmware/firmware_parts.h"

namespace operculum::uefi {

/// Whether a firmware volume begins at `at`: its mark, its sizes, and the sum of its header.
bool begins_volume(const Source& bytes, std::uint64_t at);

/// Adds all that lies in a stretch of a flash chip: volumes with their files and sections, packed ones
/// unpacked, and what is between. `folder` stands in front of all paths; it is empty or ends with a slash.
void add_region(const SourcePtr& bytes, std::uint64_t at, std::uint64_t size, const std::string& folder,
                OpenContext& context, Firmware& out);

}  // namespace operculum::uefi

#pragma once

#include <string>
#include <vector>

#include "base/bytes.h"

namespace operculum::test {

/// A group of three dynamic disks with five volumes, written by the Linux kernel's documentation.
struct DynamicVolume {
  std::string name;
  Bytes content;
};
const std::vector<DynamicVolume>& dynamic_volumes();  // Simple, Spanned, Striped, Mirrored, Parity

inline constexpr const char* kDynamicGroup = "5a17a000-1c0f-4d3e-9a51-7dfe00c0ffee";
/// Where a disk's configuration is, and in it the database; bytes.
inline constexpr std::size_t kDynamicConfigAt = 320 * 512, kDynamicDatabaseAt = kDynamicConfigAt + 3 * 512;

/// Disk 1 to 3; of several databases that with the highest sequence counts.
Bytes dynamic_disk(std::size_t number, std::uint64_t sequence = 9);

/// The same on a disk with GPT: a partition for the database, with the private head at its end, and one for
/// the data.
Bytes dynamic_gpt_disk(std::size_t number);

}  // namespace operculum::test

#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "io/source.h"

namespace operculum {

/// A partition of a flash chip as a line or a device tree tells it.
struct FlashPartition {
  std::string name;  ///< may be empty
  std::uint64_t at = 0, size = 0;
  bool rest = false;  ///< up to the end of the chip
  bool read_only = false;
};

/// Reads a line as boot loaders and kernels take it (Linux kernel, drivers/mtd/parsers/cmdlinepart.c):
/// "mtdparts=flash0:256k(boot)ro,4m(kernel),-(rootfs)"; the words in front of the sizes may be missing, and
/// of several chips the first one counts. Throws Malformed.
std::vector<FlashPartition> read_partition_line(std::string_view line);

/// The partitions that a device tree names ("fixed-partitions"), those of the first chip that has some.
/// Throws Malformed where it has none.
std::vector<FlashPartition> read_tree_partitions(const SourcePtr& tree);

}  // namespace operculum

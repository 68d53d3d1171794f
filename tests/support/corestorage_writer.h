#pragma once

#include <string>

#include "base/bytes.h"

namespace operculum::test {

/// A CoreStorage volume as it is commonly documented, written without the program's own code.
struct CoreStorageVolume {
  bool encrypted = true;
  std::string status = "Complete";
  bool two_volumes = false, two_runs = false, packed_list = false;
};

inline constexpr std::size_t kCoreBlock = 4096, kCoreSize = 64 * kCoreBlock, kCoreLabelAt = kCoreBlock,
                             kCoreMetadataAt = 16 * kCoreBlock;
inline constexpr const char* kCorePassphrase = "low water";

Bytes corestorage_content();
Bytes make_corestorage(const CoreStorageVolume& form);

}  // namespace operculum::test

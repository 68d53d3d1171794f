#pragma once

#include <string>

#include "base/bytes.h"

namespace operculum::test {

/// A CoreStorage volume as it is commonly documented, written without the program's own code.
struct CoreStorageVolume {
  bool encrypted = true;
  std::string status = "Complete";
  bool two_volumes = false, two_runs = false, packed_list = false;

  // what such volumes do not have
  unsigned method = 2;            ///< that the metadata are encrypted with
  std::size_t more_places = 0;    ///< than there are
  std::uint64_t first_block = 0;  ///< where the volume begins
  std::size_t size = 64 * 4096;   ///< that the volume is said to have, bytes
  std::string family = "5A17A000-1C0F-4D3E-9A51-7DFE00C0FFEE";
  bool damaged_key = false;
  std::string after_list;  ///< behind the family's list
};

inline constexpr std::size_t kCoreBlock = 4096, kCoreSize = 64 * kCoreBlock, kCoreLabelAt = kCoreBlock,
                             kCoreMetadataAt = 16 * kCoreBlock;
inline constexpr const char* kCorePassphrase = "low water";

Bytes corestorage_content();
Bytes make_corestorage(const CoreStorageVolume& form);

}  // namespace operculum::test

#pragma once

#include <string>
#include <vector>

#include "base/bytes.h"

namespace operculum::test {

/// A BitLocker volume as its metadata is commonly documented, written without the program's own code.
struct BitLockerVolume {
  std::uint16_t method = 0x8004;
  std::size_t sector = 512;
  bool to_go = false;          ///< the boot sector is that of a FAT volume
  bool first_version = false;  ///< the first sectors stay where they are, plain
  bool encrypted_on_write = false;
  std::string password, recovery;  ///< empty: no such protector
  bool key_file = false, clear_key = false, chip = false;
  std::uint16_t state = 4;
  std::uint64_t encrypted = UINT64_MAX;  ///< bytes

  // what such volumes do not have
  std::uint64_t head_moved = 0;  ///< bytes that the volume's first ones are said to lie further back
  bool short_key = false;
};

constexpr std::uint64_t kBitLockerSize = 1 << 20;
constexpr std::uint64_t kBitLockerMetadataAt[] = {0x40000, 0x60000, 0x80000}, kBitLockerHeadAt = 0xA0000,
                        kBitLockerHeadSize = 0x2000;

/// The volume with `content`, kBitLockerSize bytes of it, inside.
Bytes write_bitlocker(const BitLockerVolume& how, Bytes content);

/// The file that opens a volume with a key file.
std::string bitlocker_key_file();

/// What is read of the content: where the metadata is there are zeros.
Bytes bitlocker_view(const BitLockerVolume& how, Bytes content);

}  // namespace operculum::test

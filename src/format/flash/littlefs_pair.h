#pragma once

#include <map>
#include <optional>
#include <vector>

#include "base/structure.h"
#include "io/source.h"

namespace operculum::littlefs {

constexpr std::uint32_t kNone = 0xFFFFFFFF;

/// What two kinds of structures hold: a pair's blocks, or a list's last block and its size in bytes.
struct TwoWords {
  std::uint32_t first = 0, second = 0;
  static constexpr auto layout =
      little_endian(field("first", &TwoWords::first), field("second", &TwoWords::second));
};
/// Nothing where they are cut short.
std::optional<TwoWords> two_words(ByteView data);

/// Two blocks that hold the same metadata, the newer of which counts.
struct PairPlace {
  std::uint32_t first = kNone, second = kNone;
  bool operator==(const PairPlace&) const = default;
};

/// What a metadata pair says of one thing.
struct Item {
  std::uint16_t type = 0;  ///< 1 file, 2 folder, 0xff superblock; 0: none
  std::string name;
  std::uint16_t structure = 0;  ///< 0x200 folder, 0x201 data within, 0x202 list of blocks; 0: none
  std::uint64_t data_at = 0;    ///< of the structure in the image, in bytes
  Bytes data;
  std::map<std::uint8_t, Bytes> attributes;
};

/// The state of a metadata pair after its last sound commit.
struct Pair {
  std::vector<Item> items;
  PairPlace tail;
  bool hard_tail = false;  ///< the folder goes on there
};

/// Reads a pair (its specification, "Metadata pairs": tags of 32 bits, highest byte first, each
/// exclusive-ored with the one before; CRC-32 from all ones without inversion at the end). Throws Malformed
/// when neither block is sound.
Pair read_pair(const Source& image, std::uint32_t block_size, PairPlace place);

}  // namespace operculum::littlefs

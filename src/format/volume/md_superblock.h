#pragma once

#include <array>
#include <bit>
#include <functional>
#include <optional>
#include <string>

#include "base/time.h"
#include "container/known_record.h"
#include "format/volume/raid_array.h"

namespace operculum::md {

// The superblocks of Linux MD arrays, after include/uapi/linux/raid/md_p.h. Version 0.90 lies in the last 64
// to 128 KiB of a member, 1.0 at its end, 1.1 at its start, 1.2 4 KiB behind it.

/// What a member says of itself and of its array.
struct Superblock {
  std::string version;   ///< "0.90", "1.0", "1.1", "1.2"
  std::uint64_t at = 0;  ///< where it lies, in bytes
  std::endian order = std::endian::little;
  std::array<Byte, 16> array = {};
  std::string name;  ///< of the array, where it has one
  RaidShape shape;
  std::size_t members = 0;
  std::optional<std::size_t> role;           ///< which member it is; nothing: a spare, or one that failed
  std::uint64_t events = 0;                  ///< the member with most is the newest
  std::uint64_t data_at = 0, data_size = 0;  ///< bytes
  std::uint64_t synced = UINT64_MAX;         ///< bytes of the member that were brought up to date
  Timestamp updated;
  bool clean = true, reshaping = false, journal = false, sum_fits = true;
};

/// Reads up to `count` bytes at `offset`.
using Read = std::function<Bytes(std::uint64_t offset, std::size_t count)>;

/// The superblock of a member of `size` bytes; nothing where there is none.
std::optional<Superblock> find_superblock(std::uint64_t size, const Read& read);

/// The superblock of a member, where it lies.
PlacedFields shown_superblock(Probe& probe);

}  // namespace operculum::md

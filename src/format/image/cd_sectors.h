#pragma once

#include "io/source.h"

namespace operculum {

// Sectors of a compact disc as a drive reads them raw: ECMA-130 (data, "Yellow Book") and, for mode 2 with
// its sub-header, the CD-ROM XA extension: synchronisation (12 bytes), address and mode (4), user data,
// checks; sound has 2,352 bytes of samples.

constexpr std::size_t kRawSector = 2352, kSubchannels = 96, kUserData = 2048;
constexpr std::string_view kSectorSync{"\x00\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\x00", 12};

/// How sectors lie in a file.
struct SectorShape {
  std::size_t stride = kRawSector;  ///< bytes from one to the next: with subchannels 2,448
  std::size_t user_at =
      16;  ///< where the user data begins: 16 in mode 1, 24 in mode 2, 0 where only that is stored
};

/// The user data of raw sectors, 2,048 bytes each, read as one disc. `whole` holds nothing but sectors; what
/// does not fill one is left out.
SourcePtr make_user_data(SourcePtr whole, const SectorShape& shape);

/// Sound without its subchannels: 2,352 bytes of each sector; `swapped`: samples are big-endian, and turned
/// round.
SourcePtr make_sound_data(SourcePtr whole, std::size_t stride, bool swapped);

/// The shape of data sectors, by their first one; throws Malformed when it has no synchronisation.
SectorShape shape_of_sectors(ByteView first, std::size_t stride);

}  // namespace operculum

#pragma once

#include "container/sequence.h"

namespace operculum::tar {

/// Writes tar headers: of entries that are there in their own variant, with the pax records and long names
/// that they have; of new ones in the variant of the archive.
std::unique_ptr<SequenceEditor> make_editor();

/// Headers of an entry in the pax interchange format; records only where ustar has no room.
Bytes pax_headers(const NewEntry& entry, std::uint64_t size);

/// Bytes that end an archive of this size: two blocks of zeros, filled up to a record of 20 blocks.
std::uint64_t end_size(std::uint64_t size);

}  // namespace operculum::tar

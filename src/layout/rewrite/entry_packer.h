#pragma once

#include <map>

#include "layout/rewrite/survey.h"

namespace operculum::layout {

/// An entry's new content as it will lie in the container.
struct PackedEntry {
  ContentPtr plain;
  SourcePtr stored;
  std::uint64_t plain_size = 0;  ///< in bytes
  std::uint32_t crc32 = 0;       ///< of the plain bytes
};

/// Packs the new contents through the steps that the entries' bytes go through, the other way round. Throws
/// Unsupported where a step has no way back.
std::map<std::size_t, PackedEntry> pack_entries(const Survey& survey, const Changes& changes,
                                                const Writing& writing);

/// Takes the plain content for the bytes of entries that packing made no smaller; false when there are none.
bool store_what_grew(std::map<std::size_t, PackedEntry>& packed);

}  // namespace operculum::layout

#pragma once

#include "container/format.h"

namespace operculum {

/// A container that lies somewhere within other bytes.
struct Embedded {
  std::uint64_t at = 0, size = 0;  ///< up to where it, or else the range that was searched, ends; bytes
  const Format* format = nullptr;
  bool end_stated = false;
};

/// How far and for what a search within bytes goes.
struct EmbeddedSearch {
  std::size_t most = 1000;  ///< stops when so many were found
  /// Looks for the ends of ZIP archives and gzip files, and goes on within what follows the front of another
  /// packed stream, which then ends where the next container begins: every byte is looked at.
  bool thorough = false;
  bool deflate = false;  ///< also finds zlib streams and raw deflate data, which have no mark
};

/// Containers that begin anywhere in `size` bytes from `at`: found by their marks, then recognised strictly
/// and opened on trial, so that bytes which look like a mark by chance are passed over; deflate data by the
/// codes that its first block states, and by decoding it. Behind the first one whose end is not stated, and
/// not found either, the search stops.
std::vector<Embedded> find_embedded(const SourcePtr& bytes, std::uint64_t at, std::uint64_t size,
                                    OpenContext& context, EmbeddedSearch search = {});

/// "offset-0000f800.cab": a name for what was found.
std::string name_of(const Embedded& embedded);

}  // namespace operculum

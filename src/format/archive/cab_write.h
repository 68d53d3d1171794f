#pragma once

#include <functional>

#include "container/rewrite.h"
#include "format/archive/cab_folder.h"

namespace operculum::cab {

/// A cabinet that is to be written again.
struct OldCabinet {
  std::shared_ptr<const Cabinet> cabinet;
  std::span<const Entry> entries;                     ///< in the order of its files
  std::function<ContentPtr(std::size_t)> content;     ///< of a file
  std::function<StreamPtr(std::size_t)> open_folder;  ///< the unpacked bytes of a folder
};

/// The cabinet with `changes`: folders in which nothing changes are kept as they lie; what is new comes into
/// a folder of its own. Throws Unsupported.
Assembly rewrite(const OldCabinet& old, const Changes& changes, const Writing& writing);

/// A cabinet from scratch; MSZIP, unless another method is chosen.
Assembly pack(const std::vector<NewEntry>& entries, const Writing& writing);

}  // namespace operculum::cab

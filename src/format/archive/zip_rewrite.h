#pragma once

#include "container/rewrite.h"
#include "container/trim.h"
#include "format/archive/zip_directory.h"

namespace operculum::zip {

/// What is known of an archive that is to be written again.
struct Archive {
  SourcePtr source;
  const DirectoryPlace& place;
  std::span<const Entry> entries;      ///< in the directory's order
  std::span<const LocalPlace> places;  ///< of the same
  std::function<ContentPtr(std::size_t)> content;
  std::function<std::string(std::size_t)> password;  ///< of an encrypted entry; throws NeedsKey
  /// An entry's compressed bytes, without encryption.
  std::function<SourcePtr(std::size_t)> packed;
};

/// The archive with `changes`. Entries stay where they lie, in their order on disk, with everything around
/// them; only headers that state something else now are made again. Throws Unsupported.
Assembly rewrite(const Archive& archive, const Changes& changes, const Writing& writing);

/// The archive without filling between and behind its entries; the data of stored entries stays aligned.
/// With samples, gaps that the directory does not hint at are not looked for.
std::optional<Trimmed> trimmed(const Archive& archive, const Writing& writing, Look look);

}  // namespace operculum::zip

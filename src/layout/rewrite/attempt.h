#pragma once

#include <span>

#include "layout/rewrite/entry_packer.h"
#include "layout/rewrite/survey.h"

namespace operculum::layout {

/// Where new content goes when it has no room in its place.
struct Strategy {
  enum class Where { shift, append } where;
  std::uint64_t alignment = 0;  ///< of what lies behind; 0: as all data of the container is
};

/// A change to the row of an entry in a table of the container, in bytes of the file as it is.
struct RowChange {
  enum class Kind { removed, added, renamed } kind;
  std::size_t index = 0;                  ///< of the entry; added: whose row it was made of
  std::uint64_t from = 0, to = 0;         ///< bytes that become others
  Bytes with;                             ///< those others
  std::optional<NumberRead> number = {};  ///< that tells how many rows there are, or how long the name is
  std::int64_t change = 0;                ///< of that number
  std::optional<std::uint64_t> rest_at =
      {};            ///< what lies from here on keeps its place: zeros come or go in front
  std::string path;  ///< added, renamed: which the entry has then
};

/// Bytes that are to go, as far as what lies behind stays aligned; in order.
struct Cut {
  std::uint64_t from = 0, to = 0;
};

/// Writes a described container once, in one way. Throws Unsupported, and Malformed where the result could
/// not be read, when that way does not lead there; everything about the result was compared then.
Assembly attempt(Survey& survey, const Strategy& strategy, const std::map<std::size_t, PackedEntry>& packed,
                 const RowChange* row = nullptr, std::span<const Cut> cuts = {});

}  // namespace operculum::layout

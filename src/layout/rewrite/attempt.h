#pragma once

#include <span>

#include "layout/rewrite/entry_packer.h"
#include "layout/rewrite/rows.h"
#include "layout/rewrite/survey.h"

namespace operculum::layout {

/// Where new content goes when it has no room in its place.
struct Strategy {
  enum class Where { shift, append } where;
  std::uint64_t alignment = 0;  ///< of what lies behind; 0: as all data of the container is
  bool by_base = false;    ///< places that no number is equal to are counted from one that moves with them
  bool from_base = false;  ///< places of entries are counted from one that moves, in front of them or behind
};

/// Bytes that are to go, as far as what lies behind stays aligned; in order.
struct Cut {
  std::uint64_t from = 0, to = 0;
};

/// A change to what an entry comes from, in bytes of the file as it is.
struct RowChange {
  enum class Kind { removed, added, renamed } kind;
  std::size_t index = 0;                   ///< of the entry; added: whose row it was made of
  std::uint64_t from = 0, to = 0;          ///< bytes that become others
  Bytes with = {};                         ///< those others
  std::vector<NumberChange> numbers = {};  ///< how many rows there are, how long a name is, where it lies
  std::optional<std::uint64_t> rest_at =
      {};  ///< what lies from here on keeps its place: zeros come or go in front
  bool doubles_bytes =
      false;  ///< added: the new entry has bytes of its own, behind those of the one it is like
  std::optional<std::uint64_t> inside =
      {};                      ///< a byte of every part that grows with it; without it of its own
  Bytes behind = {};           ///< comes to the end of the file
  std::size_t count = 1;       ///< removed: so many entries from `index` on
  std::vector<Cut> gone = {};  ///< removed: the entries' bytes
  bool by_hash = false;        ///< renamed: only the hash of the path is there
  std::size_t new_index = 0;   ///< added: of the new entry
  std::string path = {};       ///< added, renamed: which the entry has then
};

/// Whether a change removes that entry.
inline bool removes(const RowChange* row, std::size_t index) {
  return row != nullptr && row->kind == RowChange::Kind::removed && index >= row->index &&
         index - row->index < row->count;
}

/// Writes a described container once, in one way; `packed` has entries and parts by their index in the
/// survey. Throws Unsupported, and Malformed where the result could not be read, when that way does not lead
/// there; everything about the result was compared then.
Made attempt(Survey& survey, const Strategy& strategy, const std::map<std::size_t, PackedEntry>& packed,
             const RowChange* row = nullptr, std::span<const Cut> cuts = {});

}  // namespace operculum::layout

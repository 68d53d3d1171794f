#pragma once

#include <string>
#include <vector>

#include "collection/byte_diff.h"
#include "collection/text_diff.h"
#include "container/locator.h"
#include "task/progress.h"

namespace operculum {

/// What is to be compared, and how closely.
struct CompareRequest {
  bool deep = false;      ///< containers that differ are compared by their entries
  bool content = false;   ///< the bytes decide, never a stored checksum
  bool metadata = false;  ///< tell what differs beside the bytes: times, modes, methods, comments, order
  bool details = true;    ///< say how changed files differ
  unsigned jobs = 0;      ///< threads; 0: one for each processor
};

/// What is told of an entry beside its bytes, when the two sides say different things.
struct MetadataChange {
  std::string_view what;  ///< "time", "mode", "method", "comment"
  std::string before, after;
};

/// Something that is not the same on both sides.
struct Difference {
  enum class Kind {
    changed,     ///< other bytes, another kind of thing, or a link that leads elsewhere
    added,       ///< only on the second side
    removed,     ///< only on the first side
    moved,       ///< the same bytes under another path
    metadata,    ///< the same bytes, but other things said of them
    unreadable,  ///< it cannot be told, since one side's bytes cannot be had
  };
  Kind kind;
  std::string path;      ///< beneath the places compared, through nested containers
  std::string new_path;  ///< of what moved
  EntryKind entry = EntryKind::file;
  std::uint64_t before_size = 0, after_size = 0;  ///< in bytes; Entry::kUnknownSize where not known
  std::vector<MetadataChange> metadata;
  std::optional<TextDiff> text;   ///< of texts
  std::optional<ByteDiff> bytes;  ///< of all else
  std::string message;            ///< in words: what kinds of things they are, why it cannot be told
};

/// How many entries became what.
struct CompareTotals {
  std::uint64_t same = 0, changed = 0, added = 0, removed = 0, moved = 0;
  std::uint64_t metadata = 0;  ///< of `same`, those with a Kind::metadata
  std::uint64_t unreadable = 0;
  std::uint64_t containers_changed = 0;  ///< of `changed`, containers that were not gone into
  bool order_differs = false;            ///< asked for with metadata: what both have stands in another order
  bool key_needed = false;

  bool differ() const { return changed + added + removed + moved + metadata > 0 || order_differs; }
};

using DifferenceSink = std::function<void(const Difference&)>;

/// Holds two places against each other: files by their bytes, whatever their times and however they are
/// packed. Stored checksums are believed unless request.content. Differences arrive in the first side's
/// order, additions behind them in the second side's. Nothing is written but the spool. Throws what opening
/// throws, and GuardTripped.
CompareTotals compare(const Place& before, const Place& after, const CompareRequest& request,
                      OpenContext& context, Progress& progress, const DifferenceSink& sink);

/// "changed", "added", ...
std::string_view name_of(Difference::Kind kind);

}  // namespace operculum

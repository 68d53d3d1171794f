#pragma once

#include "collection/content_search.h"
#include "collection/wanted_file.h"
#include "task/entering.h"
#include "task/progress.h"
#include "task/selection.h"
#include "task/walk.h"

namespace operculum {

/// A digest that is looked for: what find_sum() knows, and its result in lower-case digits.
struct WantedDigest {
  std::string sum;
  std::string digits;
};

/// Which sum a digest is of, by its length; nothing when it is none.
std::optional<WantedDigest> read_wanted_digest(std::string_view digits);

/// What is looked for. All that is given must hold; of several digests and files one.
struct FindRequest {
  Selection selection;
  std::uint64_t least_size = 0, most_size = UINT64_MAX;  ///< in bytes
  std::optional<std::int64_t> newer, older;              ///< seconds since 1970, both included
  std::vector<std::string> kinds;                        ///< by content, see KindReader
  std::vector<WantedDigest> digests;
  std::vector<std::shared_ptr<const WantedFile>> files;  ///< whose bytes are looked for
  Needles needles;
  std::size_t hits_each = 1;         ///< places within each file that are told
  bool sums = false;                 ///< take the SHA-256 of everything that is found
  bool first = false;                ///< one thing found is enough
  bool programs = false;             ///< also into programs that carry containers
  std::uint64_t depth = UINT64_MAX;  ///< containers inside each other that are gone into
  Enter enter = Enter::likely;       ///< which files are looked at for what is in them
  unsigned jobs = 0;                 ///< files looked through at a time; 0: one for each processor
};

/// Something that was looked for.
struct FoundFile {
  std::string locator;  ///< as other commands take it
  std::string target;   ///< the file on disk, or the locator, that it lies in
  std::string path;     ///< within the target; empty for the target itself
  EntryKind kind = EntryKind::file;
  std::uint64_t size = Entry::kUnknownSize;  ///< in bytes
  Timestamp modified;                        ///< its own where it is stored, else of the file on disk
  std::string sha256;                        ///< where it was taken
  std::vector<ContentHit> hits;
};

/// How much was found, and how much was looked through for it.
struct FindTotals {
  std::uint64_t found = 0;
  std::uint64_t targets = 0;       ///< looked through
  std::uint64_t targets_with = 0;  ///< of these, with something found
  std::uint64_t unreadable = 0;    ///< targets, containers and files that could not be looked into
  bool key_needed = false;
};

/// Who is told while the search goes on; called from one thread at a time.
struct FindEvents {
  std::function<void(const FoundFile&)> found;
  std::function<void(const std::string& locator, const Error&)> unreadable;
};

/// Looks through targets: each itself, and everything in it through any number of containers. What is damaged
/// costs only itself. Events arrive in the order of the targets, one at a time. Stored checksums decide what
/// need not be decoded; a guard that trips ends one target.
FindTotals find(const std::vector<std::string>& targets, const FindRequest& request,
                const OpenContext& context, Progress& progress, const FindEvents& events);

}  // namespace operculum

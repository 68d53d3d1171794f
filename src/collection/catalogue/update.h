#pragma once

#include <functional>

#include "collection/catalogue/schema.h"
#include "container/format.h"
#include "task/entering.h"
#include "task/progress.h"

namespace operculum {

/// One of several that make a catalogue of the same places together: each file belongs to exactly one, the
/// same each time.
struct Shard {
  std::uint64_t index = 1, count = 1;  ///< from 1
  bool has(std::string_view path) const;
};

/// How much is read of each file, and which of the files.
struct CatalogueRequest {
  bool digests = false;         ///< take the SHA-256 of every entry, which decodes everything
  bool verify = false;          ///< decode and check everything that was not verified yet
  bool anew = false;            ///< also read files again that are unchanged
  bool programs = false;        ///< also into programs that carry containers
  Enter enter = Enter::likely;  ///< which entries are looked at for what is in them
  Shard shard;
  unsigned jobs = 0;  ///< files read at a time; 0: one for each processor
};

/// What a run did with the files that it was given.
struct CatalogueTotals {
  std::uint64_t files = 0;      ///< of this shard
  std::uint64_t unchanged = 0;  ///< of these, not read again
  std::uint64_t read = 0, verified = 0;
  std::uint64_t gone = 0;     ///< known files that are not there any more
  std::uint64_t faulty = 0;   ///< files that cannot be read, or have faults, of those read or verified now
  std::uint64_t entries = 0;  ///< of the files read now
  bool stopped = false;       ///< interrupted: the next run goes on
};

/// What became of a file, when it is worth a word: its path and a sentence.
using CatalogueSink = std::function<void(const std::string& path, const std::string& sentence)>;

/// Brings a catalogue up to date with `files`, absolute paths that are all that lies in `places`. Files whose
/// size, time and inode are as they were are not read. Each container is written as a whole, or, where it is
/// very large, in steps that a run which is interrupted leaves to be done again. Throws Error of kind io when
/// the catalogue cannot be written.
CatalogueTotals update_catalogue(Database& database, const std::vector<std::string>& places,
                                 std::vector<std::string> files, const CatalogueRequest& request,
                                 const OpenContext& context, Progress& progress, const CatalogueSink& sink);

}  // namespace operculum

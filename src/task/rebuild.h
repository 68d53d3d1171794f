#pragma once

#include <functional>
#include <string>
#include <vector>

#include "container/format.h"
#include "container/rewrite.h"
#include "task/new_file.h"
#include "task/progress.h"
#include "task/receipt.h"

namespace operculum {

/// What is to become of which entry, in the words of a person.
struct Wish {
  enum class Kind {
    set,     ///< an entry that is there gets the content of a file
    add,     ///< a file or folder is put in under a path that is not there
    remove,  ///< an entry goes, and what is beneath it
    rename,  ///< an entry gets another path, and what is beneath it, too
  };
  Kind kind;
  std::string path;  ///< of the entry, within what is rebuilt
  std::string with;  ///< set, add: a file on disk; rename: the new path
};

/// Which container is to be written anew, with what changed, and where to.
struct RebuildRequest {
  std::string target;  ///< a locator: the innermost container is rebuilt, and each one around it
  std::vector<Wish> wishes;
  std::string from;     ///< a folder: what differs in it is set, what is new added; empty: none
  bool mirror = false;  ///< with `from`: what is missing there is removed
  bool alone = false;   ///< with `from`: nothing outside of the container's folder that it stands for stays
  bool only_changed = false;  ///< with `from`: what is equal there is removed, too
  PackChoice choice;
  std::string into;          ///< a file that is not there yet; empty: in the place of the original
  std::string receipt;       ///< a file that is written beside, for discard; empty: none
  bool trim = false;         ///< filling between and behind entries goes, where the format does without it
  bool update_sums = false;  ///< of a Debian package, its md5sums with its data
  bool quick = false;        ///< compare what changed alone before the result gets its name
  bool dry_run = false;      ///< nothing is written
};

/// What becomes of an entry of the innermost container.
struct Fate {
  enum class Kind { changed, added, removed, renamed };
  Kind kind;
  std::string path;
  std::string new_path;                          ///< of a renamed one
  std::uint64_t old_size = Entry::kUnknownSize;  ///< unpacked, in bytes; unknown for what was not there
  std::uint64_t new_size = Entry::kUnknownSize;
  std::vector<std::string> notes;  ///< what a person should know of how it was packed
};

/// What became of each entry, and of the container.
struct RebuildResult {
  std::vector<Fate> fates;
  std::uint64_t kept_entries = 0;            ///< of the innermost container, as they were
  std::uint64_t old_size = 0, new_size = 0;  ///< of the file on disk, in bytes
  std::uint64_t trimmed = 0;                 ///< bytes of filling that went, of the innermost container
  std::uint64_t kept_bytes = 0;              ///< of the new file, that are the original's
  std::string written;                       ///< the new file; empty in a dry run, and when nothing changes
  std::string original;                      ///< in place: where the original is now
  std::vector<WrittenFile> beside;           ///< further files of the container that were written with it
  std::uint64_t compared = 0;  ///< entries whose bytes were compared before the file got its name
};

/// Rebuilds a container with changes. Everything that is not to change is kept as it lies; the result is
/// opened and compared before it gets its name, and the original is not touched. Throws Error; nothing is
/// left then.
RebuildResult rebuild(const RebuildRequest& request, OpenContext& context, Progress& progress);

}  // namespace operculum

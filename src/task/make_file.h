#pragma once

#include "task/rebuild.h"

namespace operculum {

/// A file to be made from scratch: a container of entries, or some bytes, and codecs around that.
struct FileToMake {
  const Format* container = nullptr;  ///< null: `bytes` are meant
  std::vector<NewEntry> entries;      ///< of the container
  ContentPtr bytes;
  std::optional<std::uint64_t> size;  ///< of `bytes`, where it is known
  std::optional<PackedRun> packed;    ///< `bytes` as they lie packed elsewhere
  std::vector<const Format*> codecs;  ///< formats of a single stream, from the inside out
  PackChoice choice;
  std::string into;  ///< a file that is not there yet
  bool dry_run = false;
};

/// The formats that a word such as "tar.xz" or "tgz" names: a container, where there is one, and the codecs
/// around it. A container may be one of those that `context` has descriptions of, by the description's name.
/// Throws Unsupported naming what can be made when one cannot.
FileToMake formats_of(const std::string& word, const OpenContext& context);

/// Makes the file; what was packed is unpacked again and compared before it gets its name. Codecs are written
/// as they pack, nothing of theirs is kept elsewhere. Throws Error; nothing is left then. In a dry run
/// nothing is written and the size of what is packed by codecs is not known (0).
RebuildResult make_file(const FileToMake& what, OpenContext& context, Progress& progress);

}  // namespace operculum

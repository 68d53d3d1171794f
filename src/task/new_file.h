#pragma once

#include <functional>
#include <string>

#include "io/assembly.h"
#include "io/stream.h"
#include "task/progress.h"

namespace operculum {

/// A file that is to be written from an assembly.
struct NewFile {
  std::string path;
  bool in_place =
      false;         ///< what is there is put beside it under a name of its own; else nothing may be there
  std::string like;  ///< a file whose mode it gets; empty: the usual one
  std::function<void(const Source& written)> check;  ///< called before it gets its name; throws to end it
  bool digest = false;
};

/// A file that was written and has its name.
struct WrittenFile {
  std::string path;
  std::string replaced;    ///< where what was there is now; empty when nothing was
  std::string digest;      ///< SHA-256
  std::uint64_t size = 0;  ///< in bytes
};

/// Writes a file that has no name yet, has it checked, and gives it its name; in place it is on the disk for
/// good before. Throws IoError, GuardTripped, and what the check throws; nothing is left then.
WrittenFile write_new_file(const Assembly& assembly, const NewFile& file, Progress& progress);

/// As if it had not been written: what was there before has its name again. Does what it can.
void take_back(const WrittenFile& written);

/// The same from a stream; holes stay holes.
WrittenFile write_new_stream(Stream& stream, const NewFile& file, Progress& progress);

/// Takes text, piece by piece.
using TextSink = std::function<void(std::string_view)>;

/// Writes a text of this program's own, such as a receipt, to a new file, as `fill` gives it out. Throws
/// IoError; EEXIST where something is.
void write_new_text(const std::string& path, const std::function<void(const TextSink&)>& fill);

}  // namespace operculum

#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "io/source.h"

namespace operculum::study {

/// A file by the name that it has in its folder.
struct NamedFile {
  SourcePtr source;
  std::string name;
};

/// What is studied: the file that holds the data, and its index where that is a file of its own.
struct Subject {
  SourcePtr source;
  std::string name;                ///< of the file with the data, without its folder
  std::optional<NamedFile> index;  ///< beside it
  bool describes_index = false;    ///< the index is the file that a person opens, the data lies beside it
  /// Where in `source` something begins that is recognised by itself, ascending.
  std::vector<std::uint64_t> anchors = {};

  std::uint64_t size() const { return source->size(); }
  Bytes read(std::uint64_t at, std::uint64_t count) const { return read_up_to(*source, at, count); }
  /// The file that a description is of, and the one beside it.
  NamedFile main() const { return describes_index ? *index : NamedFile{source, name}; }
  NamedFile other() const { return describes_index ? NamedFile{source, name} : *index; }
};

/// How a key was laid over bytes.
enum class KeyKind { exclusive, added };

/// Bytes in which an index may lie: a part of the file as it is, or what comes out of one.
struct Space {
  Bytes bytes;
  std::uint64_t at = 0;  ///< offset of bytes[0]: in the file, or within what was made of it
  bool plain = true;     ///< the file's own bytes
  bool beside = false;   ///< a file of its own, beside the one with the data
  std::uint64_t stored_at = 0, stored_size = 0;  ///< where they lie in the file that has them
  std::string made;                              ///< a transform of the layout language, such as "zlib"
  Bytes key;                                     ///< that was taken off; empty: none
  KeyKind key_kind = KeyKind::exclusive;
  std::uint64_t file_size = 0;    ///< of the file with the data
  std::uint64_t holder_size = 0;  ///< of the file that has the index: the same, unless that lies beside it

  std::uint64_t end() const { return at + bytes.size(); }
  /// Freed of a key: goes on for as long as the index does.
  bool keyed() const { return !key.empty(); }
  /// Made of what the file has: unpacked, or freed of a key.
  bool disguised() const { return !made.empty(); }
};
using SpacePtr = std::shared_ptr<const Space>;

}  // namespace operculum::study

#pragma once

#include <memory>
#include <string>

#include "io/source.h"

namespace operculum::study {

/// The file that is studied.
struct Subject {
  SourcePtr source;
  std::string name;  ///< of the file, without its folder

  std::uint64_t size() const { return source->size(); }
  Bytes read(std::uint64_t at, std::uint64_t count) const { return read_up_to(*source, at, count); }
};

/// Bytes in which an index may lie: a part of the file as it is, or what comes out of one.
struct Space {
  Bytes bytes;
  std::uint64_t at = 0;  ///< offset of bytes[0]: in the file, or within what was made of it
  bool plain = true;     ///< the file's own bytes
  bool keyed = false;    ///< freed of a key: goes on for as long as the index does
  std::uint64_t stored_at = 0, stored_size = 0;  ///< where they lie in the file
  std::string made;                              ///< a transform of the layout language, such as "zlib"
  std::uint64_t file_size = 0;

  std::uint64_t end() const { return at + bytes.size(); }
};
using SpacePtr = std::shared_ptr<const Space>;

}  // namespace operculum::study

#pragma once

#include "container/rewrite.h"
#include "support/byte_writer.h"

namespace operculum::test {

/// A file to be put into a container, of a text.
inline NewEntry new_file(const std::string& path, const std::string& text) {
  NewEntry entry;
  entry.path = path;
  entry.size = text.size();
  entry.content = make_content(make_memory_source(to_bytes(text)));
  return entry;
}

}  // namespace operculum::test

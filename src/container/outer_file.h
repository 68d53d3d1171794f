#pragma once

#include "container/format.h"

namespace operculum {

/// The bytes that a locator begins with: a file on disk, standard input, or a file on a server.
struct OuterFile {
  std::string name;          ///< as the locator has it: a path, "-", a URL
  std::string rest;          ///< of the locator, what goes on into it; no slash in front
  SourcePtr source;          ///< null where the bytes only come in
  ContentPtr content = {};   ///< the bytes
  unsigned parts = 1;        ///< numbered files that were joined to it
  std::uint64_t stored = 0;  ///< bytes that it really takes: holes are worth nothing
  Beside sibling = {};       ///< see Input
};

/// Opens what a locator begins with. On disk that is the longest prefix that is a file. Of a URL it is the
/// first part whose name is that of a container, else all of it; what follows a # is within the file in any
/// case. Standard input, and what a server sends as a whole, is not kept where it is all that is named,
/// `context` says that it is read once, and its format is read forwards. Only what a person typed comes here:
/// names within containers are never fetched. Throws IoError, NeedsKey, Error.
OuterFile open_outer_file(const std::string& locator, OpenContext& context);

/// The file on disk that a locator begins with, "-", or what is likely the file of a URL; empty when there is
/// none. Nothing is fetched.
std::string file_of(const std::string& locator, const OpenContext* context = nullptr);

}  // namespace operculum

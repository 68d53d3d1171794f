#pragma once

#include "collection/find.h"

namespace operculum {

/// Files of the same bytes.
struct FileVersion {
  std::string sha256;
  std::uint64_t size = 0;           ///< in bytes
  Timestamp modified;               ///< the newest of its copies'
  std::vector<std::string> copies;  ///< locators, the newest first
};

/// Files of one name.
struct FileVersions {
  std::string name;
  std::vector<FileVersion> versions;  ///< the newest first; those without a time last
};

/// Sorts what was found into names and, by their bytes, versions. Each must have its sum.
std::vector<FileVersions> versions_of(std::vector<FoundFile> files);

}  // namespace operculum

#pragma once

#include <string>
#include <vector>

#include "container/locator.h"

namespace operculum {

/// Whether folders within a folder are gone into, too.
enum class Subfolders { no, yes };

/// Targets with folders on disk replaced by the files in them.
struct Expanded {
  std::vector<std::string> files;      ///< in the order of the targets, and of names within each folder
  std::uint64_t folders_left_out = 0;  ///< folders within folders that were not gone into
};

/// Links to folders are not followed within a folder. A folder that cannot be read is left in the list:
/// whoever opens it tells why.
Expanded expanded(const std::vector<std::string>& targets, Subfolders subfolders = Subfolders::no);

/// What a target names as something with entries: a folder on disk as the container that it is, all else as
/// resolve() finds it.
Place resolve_with_folders(const std::string& target, OpenContext& context);

/// The bytes of the file that a place lies in; of a folder on disk those of all its files.
std::uint64_t bytes_of_file(const Place& place);

}  // namespace operculum

#pragma once

#include "container/format.h"

namespace operculum {

/// What a folder on disk is called where containers are told apart. No recogniser: a path says that it is a
/// folder.
const Format& disk_folder_format();

/// A folder on disk as a container: everything beneath it, folders in front of what is in them, names in
/// order. Links are entries and are not followed. What cannot be read is a finding.
ContainerPtr open_disk_folder(const std::string& path);

}  // namespace operculum

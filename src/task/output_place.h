#pragma once

#include <string>

#include "container/locator.h"

namespace operculum {

/// The name of a folder for what is in a container: "tidepool.skin" gives "tidepool", "exhibit-7.tar.xz"
/// "exhibit-7".
std::string folder_name_for(const Place& place);

/// `name`, or the first numbered form of it that is not taken on disk.
std::string free_folder_name(const std::string& name);

/// A path from the root.
std::string absolute_path(const std::string& path);

}  // namespace operculum

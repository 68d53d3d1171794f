#pragma once

#include <string>

namespace operculum {

/// The name of a folder for what is in a file: "tidepool.skin" gives "tidepool", "exhibit-7.tar.xz"
/// "exhibit-7".
std::string folder_name_for(const std::string& file);

/// `name`, or the first numbered form of it that is not taken on disk.
std::string free_folder_name(const std::string& name);

/// A path from the root.
std::string absolute_path(const std::string& path);

}  // namespace operculum

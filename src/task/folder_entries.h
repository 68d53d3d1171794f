#pragma once

#include <string>
#include <vector>

#include "container/rewrite.h"

namespace operculum {

/// Whether times on disk are kept. SOURCE_DATE_EPOCH, where it is set, takes the place of all that are later
/// (reproducible-builds.org).
std::optional<std::int64_t> source_date();

/// A file's bytes; it is open only while they are read, for there may be very many.
ContentPtr disk_content(const std::string& file);

/// What lies in a folder on disk, in the order of its names. Throws IoError.
std::vector<std::string> names_in(const std::string& folder);

/// Where a symbolic link on disk leads. Throws IoError.
std::string read_link(const std::string& file);

constexpr std::size_t kDeepestFolder = 256;  ///< folders inside each other that are read

/// A file, folder or link on disk as something to be put into a container under `path`. Its content is opened
/// when it is read. Throws IoError, and Unsupported for devices, pipes and sockets.
NewEntry entry_from_disk(const std::string& file, const std::string& path);

/// Everything beneath a folder, in the order of its paths, folders in front of what is in them. Links are not
/// followed. Throws IoError.
std::vector<NewEntry> entries_from_folder(const std::string& folder, const std::string& prefix);

}  // namespace operculum

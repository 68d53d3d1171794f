#pragma once

#include "container/format.h"

namespace operculum {

/// Opens a file; one named `NAME.001` is joined with `NAME.002`, `.003`, ... beside it, as splitting programs
/// write them; `count` is how many there were. Throws IoError.
SourcePtr open_with_parts(const std::string& path, unsigned& count);

/// Where the plain file of that name, or of a path beneath, lies in the folder of `path`, whatever the case
/// of its letters; empty where there is none.
std::string path_beside(const std::string& path, const std::string& name);

/// The plain files in the folder of `path`; hidden ones and links are not there.
Beside file_sibling(const std::string& path);

/// The file called `name` in the folder of `path` among these entries: exactly so, or else one that differs
/// only in case.
std::optional<std::size_t> entry_beside(std::span<const Entry> entries, std::string_view path,
                                        std::string_view name);

/// The entries in the folder of `path` in a container. For one thread at a time. What is in the disks beside
/// its container
/// (`outer`) are candidates, too: members of an array lie so in several images.
Beside entry_sibling(ContainerPtr container, const std::string& path, OpenContext& context,
                     Beside outer = {});

}  // namespace operculum

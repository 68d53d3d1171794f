#pragma once

#include "container/format.h"

namespace operculum {

/// Opens a file; one named `NAME.001` is joined with `NAME.002`, `.003`, ... beside it, as splitting programs
/// write them; `count` is how many there were. Throws IoError.
SourcePtr open_with_parts(const std::string& path, unsigned& count);

/// Finds plain files in the folder of `path`, by a name or a path beneath it; hidden ones and links are not
/// there.
std::function<SourcePtr(const std::string&)> file_sibling(const std::string& path);

/// Finds entries in the folder of `path` in a container. For one thread at a time.
std::function<SourcePtr(const std::string&)> entry_sibling(ContainerPtr container, const std::string& path,
                                                           OpenContext& context);

}  // namespace operculum

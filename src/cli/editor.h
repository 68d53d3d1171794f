#pragma once

#include <string>

namespace operculum::cli {

/// Opens a file in the person's editor (VISUAL, else EDITOR, else what the system calls editor) and waits
/// until that has ended. Throws IoError when it cannot be started or ends with a failure.
void edit_file(const std::string& path);

}  // namespace operculum::cli

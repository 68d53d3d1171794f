#pragma once

#include <string>

namespace operculum::cli {

/// What VISUAL and EDITOR hold: a command line, as for every program that starts editors.
std::string editor_command();

/// Opens a file in the user's editor and waits for its end. 0 when it ended well.
int edit_file(const std::string& path);

}  // namespace operculum::cli

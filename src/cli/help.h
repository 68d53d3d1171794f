#pragma once

#include <string>
#include <vector>

#include "cli/options.h"

namespace operculum::cli {

/// What `operculum --help` prints, as wide as the terminal is.
std::string program_help(const std::string& about, const std::vector<CommandHelp>& commands,
                         const std::vector<OptionHelp>& everywhere);

/// What `operculum COMMAND --help` prints: use, two examples, the command's options, and those of every
/// command. `all` names the commands within it.
std::string command_help(const CommandHelp& command, const std::vector<OptionHelp>& options,
                         const std::vector<CommandHelp>& all, const std::vector<OptionHelp>& everywhere);

}  // namespace operculum::cli

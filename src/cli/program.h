#pragma once

#include <string>
#include <vector>

#include "cli/session.h"

namespace operculum::cli {

/// Runs the program with its arguments (without its own name); returns its exit code.
int run_program(Session& session, const std::vector<std::string>& arguments);

/// What a process needs that runs it: signals, the width of characters.
void prepare_process();

}  // namespace operculum::cli

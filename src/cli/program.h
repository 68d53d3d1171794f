#pragma once

#include <memory>
#include <string>
#include <vector>

#include "cli/options.h"
#include "cli/session.h"

namespace operculum::cli {

/// All commands and what they take, with values that go to `session`, which must outlive it.
std::unique_ptr<CommandLine> make_command_line(Session& session);

/// Runs the program with its arguments (without its own name); returns its exit code.
int run_program(Session& session, const std::vector<std::string>& arguments);

/// What a process needs that runs it: signals, the width of characters.
void prepare_process();

}  // namespace operculum::cli

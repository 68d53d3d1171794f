#pragma once

#include <string>
#include <vector>

#include "support/open.h"
#include "support/program.h"
#include "support/sample_tree.h"
#include "support/temp_folder.h"

namespace operculum::test {

/// Runs a program of the system, with the folders of system tools on its path.
Ran tool(const std::string& program, const std::vector<std::string>& arguments, const std::string& folder);

bool has_tool(const std::string& program);

#define NEEDS(program) \
  if (!has_tool(program)) GTEST_SKIP() << program << " is not on this machine"

/// The tree on disk, below `name` in the folder.
void write_tree(const TempFolder& folder, const std::string& name, const SampleTree& tree);

/// A file on disk, opened as a container; `view` as a person names it.
Held open_path(const std::string& path, const std::string& view = "");

/// What a container's facts say under a name; empty: nothing.
std::string fact(Container& container, const std::string& name);

}  // namespace operculum::test

#include "cli/editor.h"

#include <cstdlib>

#include "sandbox/child.h"

namespace operculum::cli {

std::string editor_command() {
  for (const char* variable : {"VISUAL", "EDITOR"}) {
    const char* command = std::getenv(variable);
    if (command != nullptr && *command != '\0') return command;
  }
  return "editor";
}

int edit_file(const std::string& path) {
  std::string line = editor_command() + " \"$1\"";
  const char* arguments[] = {"sh", "-c", line.c_str(), "sh", path.c_str(), nullptr};
  return run_to_end(arguments);
}

}  // namespace operculum::cli

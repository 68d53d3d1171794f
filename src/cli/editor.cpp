#include "cli/editor.h"

#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>

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
  pid_t child = 0;
  if (posix_spawnp(&child, "sh", nullptr, nullptr, const_cast<char**>(arguments), environ) != 0) return 1;
  int status = 0;
  while (waitpid(child, &status, 0) < 0) {
    if (errno != EINTR) return 1;
  }
  return WIFEXITED(status) && WEXITSTATUS(status) == 0 ? 0 : 1;
}

}  // namespace operculum::cli

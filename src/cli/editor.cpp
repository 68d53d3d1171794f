#include "cli/editor.h"

#include <fmt/format.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>

#include "base/error.h"
#include "base/text.h"

namespace operculum::cli {
namespace {

/// What VISUAL and EDITOR hold is a command line, as for every program that starts editors.
std::string editor() {
  for (const char* variable : {"VISUAL", "EDITOR"}) {
    const char* command = std::getenv(variable);
    if (command != nullptr && *command != '\0') return command;
  }
  return "editor";
}

}  // namespace

void edit_file(const std::string& path) {
  std::string command = editor(), line = command + " \"$1\"";
  const char* arguments[] = {"sh", "-c", line.c_str(), "sh", path.c_str(), nullptr};
  pid_t child = 0;
  int failure = posix_spawnp(&child, "sh", nullptr, nullptr, const_cast<char**>(arguments), environ);
  if (failure != 0) throw IoError("cannot start the editor", failure);
  int status = 0;
  while (waitpid(child, &status, 0) < 0) {
    if (errno != EINTR) throw IoError("waiting for the editor failed", errno);
  }
  bool well = WIFEXITED(status) && WEXITSTATUS(status) == 0;
  if (!well) {
    throw IoError(fmt::format("the editor \"{}\" ended with a failure, so nothing is written; set VISUAL to "
                              "another one",
                              escape(command)),
                  ECANCELED);
  }
}

}  // namespace operculum::cli

#include "sandbox/child.h"

#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>

namespace operculum {

int run_to_end(const char* const* words) {
  pid_t child = 0;
  if (posix_spawnp(&child, words[0], nullptr, nullptr, const_cast<char**>(words), environ) != 0) return 1;
  int status = 0;
  while (waitpid(child, &status, 0) < 0) {
    if (errno != EINTR) return 1;
  }
  return WIFEXITED(status) && WEXITSTATUS(status) == 0 ? 0 : 1;
}

}  // namespace operculum

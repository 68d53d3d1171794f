#include "process.h"

#include <fcntl.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <fstream>

namespace operculum::bench {

Cost run(const std::vector<std::string>& words) {
  std::vector<char*> arguments;
  for (const std::string& word : words) arguments.push_back(const_cast<char*>(word.c_str()));
  arguments.push_back(nullptr);
  auto start = std::chrono::steady_clock::now();
  pid_t child = vfork();
  if (child == 0) {
    int nowhere = open("/dev/null", O_WRONLY);
    dup2(nowhere, 1);
    dup2(nowhere, 2);
    execvp(arguments[0], arguments.data());
    _exit(127);
  }
  siginfo_t ended{};
  waitid(P_PID, static_cast<id_t>(child), &ended, WEXITED | WNOWAIT);
  Cost cost;
  cost.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  std::ifstream io("/proc/" + std::to_string(child) + "/io");
  for (std::string key; io >> key;) {
    std::uint64_t value = 0;
    io >> value;
    if (key == "rchar:") cost.bytes_read = value;
  }
  int status = 0;
  rusage usage{};
  wait4(child, &status, 0, &usage);
  cost.peak_memory = static_cast<std::uint64_t>(usage.ru_maxrss) * 1024;
  cost.exit_code = WIFEXITED(status) ? WEXITSTATUS(status) : 128;
  return cost;
}

}  // namespace operculum::bench

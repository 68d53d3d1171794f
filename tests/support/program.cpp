#include "support/program.h"

#include <fcntl.h>
#include <poll.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstdlib>
#include <stdexcept>

namespace operculum::test {
namespace {

struct Pipe {
  int ends[2];
  Pipe() {
    if (pipe2(ends, O_CLOEXEC) != 0) throw std::runtime_error("pipe");
  }
};

}  // namespace

Ran run(const std::string& program, const std::vector<std::string>& arguments, const std::string& folder,
        const std::map<std::string, std::string>& environment, const std::string& input) {
  Pipe in, out, err;
  pid_t child = fork();
  if (child == 0) {
    dup2(in.ends[0], 0);
    dup2(out.ends[1], 1);
    dup2(err.ends[1], 2);
    for (const auto& [name, value] : environment) setenv(name.c_str(), value.c_str(), 1);
    std::vector<char*> words = {const_cast<char*>(program.c_str())};
    for (const std::string& word : arguments) words.push_back(const_cast<char*>(word.c_str()));
    words.push_back(nullptr);
    if (chdir(folder.c_str()) == 0) execvp(program.c_str(), words.data());
    _exit(127);
  }
  close(in.ends[0]);
  close(out.ends[1]);
  close(err.ends[1]);
  if (!input.empty() && write(in.ends[1], input.data(), input.size()) < 0)
    throw std::runtime_error("write to the program");
  close(in.ends[1]);
  Ran ran;
  struct Reader {
    int end;
    std::string* text;
  } readers[] = {{out.ends[0], &ran.out}, {err.ends[0], &ran.err}};
  for (int open = 2; open > 0;) {
    pollfd waits[] = {{readers[0].end, POLLIN, 0}, {readers[1].end, POLLIN, 0}};
    poll(waits, 2, -1);
    for (int i = 0; i < 2; ++i) {
      if (waits[i].revents == 0) continue;
      char block[65536];
      ssize_t count = read(readers[i].end, block, sizeof block);
      if (count > 0) {
        readers[i].text->append(block, static_cast<std::size_t>(count));
      } else {
        close(readers[i].end);
        readers[i].end = -1;
        --open;
      }
    }
  }
  int status = 0;
  waitpid(child, &status, 0);
  ran.exit_code = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
  return ran;
}

Ran operculum(const std::vector<std::string>& arguments, const std::string& folder,
              const std::map<std::string, std::string>& environment, const std::string& input) {
  std::map<std::string, std::string> all = {{"XDG_CONFIG_HOME", folder + "/.config"}, {"TZ", "UTC"}};
  for (const auto& [name, value] : environment) all[name] = value;
  const char* built = std::getenv("OPERCULUM");
  if (built == nullptr) throw std::runtime_error("OPERCULUM must name the built program");
  return run(built, arguments, folder, all, input);
}

bool on_path(const std::string& program) {
  return run("sh", {"-c", "command -v " + program}, "/").exit_code == 0;
}

}  // namespace operculum::test

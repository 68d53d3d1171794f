#include "support/program.h"

#include <fcntl.h>
#include <poll.h>
#include <pty.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <chrono>
#include <csignal>
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

std::vector<char*> words_of(const std::vector<std::string>& texts) {
  std::vector<char*> words;
  for (const std::string& text : texts) words.push_back(const_cast<char*>(text.c_str()));
  words.push_back(nullptr);
  return words;
}

/// What a program is started with.
struct Start {
  std::vector<std::string> arguments;  // the program first
  std::vector<std::string> environment;

  Start(const std::string& program, const std::vector<std::string>& more,
        const std::map<std::string, std::string>& changes)
      : arguments{program} {
    arguments.insert(arguments.end(), more.begin(), more.end());
    for (char** one = environ; *one != nullptr; ++one) {
      std::string line = *one;
      if (!changes.contains(line.substr(0, line.find('=')))) environment.push_back(line);
    }
    for (const auto& [name, value] : changes) environment.push_back(name + "=" + value);
  }
};

/// Starts a program in a folder with these three as its streams. Nothing of this process is copied for it,
/// which takes long of one that runs under a sanitizer.
pid_t start(const Start& what, const std::string& folder, const std::array<int, 3>& streams) {
  posix_spawn_file_actions_t actions;
  posix_spawn_file_actions_init(&actions);
  for (int i = 0; i < 3; ++i) posix_spawn_file_actions_adddup2(&actions, streams[i], i);
  posix_spawn_file_actions_addchdir_np(&actions, folder.c_str());
  pid_t child = -1;
  int failed = posix_spawnp(&child, what.arguments[0].c_str(), &actions, nullptr,
                            words_of(what.arguments).data(), words_of(what.environment).data());
  posix_spawn_file_actions_destroy(&actions);
  return failed == 0 ? child : -1;
}

int exit_code_of(pid_t child) {
  if (child < 0) return 127;  // as a shell has it for what cannot be started
  int status = 0;
  waitpid(child, &status, 0);
  return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
}

std::string built_program() {
  const char* built = std::getenv("OPERCULUM");
  if (built == nullptr) throw std::runtime_error("OPERCULUM must name the built program");
  return built;
}

std::map<std::string, std::string> own_environment(const std::string& folder) {
  return {{"XDG_CONFIG_HOME", folder + "/.config"}, {"TZ", "UTC"}};
}

/// Writes to a program that may end before it has read all.
void feed(int end, const std::string& input) {
  sigset_t broken_pipe, before;
  sigemptyset(&broken_pipe);
  sigaddset(&broken_pipe, SIGPIPE);
  pthread_sigmask(SIG_BLOCK, &broken_pipe, &before);
  for (std::size_t at = 0; at < input.size();) {
    ssize_t count = write(end, input.data() + at, input.size() - at);
    if (count < 0) break;
    at += static_cast<std::size_t>(count);
  }
  timespec at_once{};
  sigtimedwait(&broken_pipe, nullptr, &at_once);
  pthread_sigmask(SIG_SETMASK, &before, nullptr);
}

}  // namespace

Ran run(const std::string& program, const std::vector<std::string>& arguments, const std::string& folder,
        const std::map<std::string, std::string>& environment, const std::string& input) {
  Pipe in, out, err;
  pid_t child = start(Start(program, arguments, environment), folder, {in.ends[0], out.ends[1], err.ends[1]});
  close(in.ends[0]);
  close(out.ends[1]);
  close(err.ends[1]);
  feed(in.ends[1], input);
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
  ran.exit_code = exit_code_of(child);
  return ran;
}

Ran operculum(const std::vector<std::string>& arguments, const std::string& folder,
              const std::map<std::string, std::string>& environment, const std::string& input) {
  std::map<std::string, std::string> all = own_environment(folder);
  for (const auto& [name, value] : environment) all[name] = value;
  return run(built_program(), arguments, folder, all, input);
}

Ran operculum_ended(const std::vector<std::string>& arguments, const std::string& folder, int signal,
                    unsigned microseconds) {
  Pipe err;
  int nowhere = open("/dev/null", O_RDWR | O_CLOEXEC);
  pid_t child = start(Start(built_program(), arguments, own_environment(folder)), folder,
                      {nowhere, nowhere, err.ends[1]});
  if (child < 0) throw std::runtime_error("start the program");
  close(nowhere);
  close(err.ends[1]);
  if (microseconds != kAtFirstWord) {
    usleep(microseconds);
  } else {
    pollfd wait = {err.ends[0], POLLIN, 0};
    poll(&wait, 1, 60'000);
  }
  kill(child, signal);
  Ran ran;
  char block[4096];
  for (ssize_t count = 0; (count = read(err.ends[0], block, sizeof block)) > 0;)
    ran.err.append(block, static_cast<std::size_t>(count));
  close(err.ends[0]);
  ran.exit_code = exit_code_of(child);
  return ran;
}

Ran operculum_on_terminal(const std::vector<std::string>& arguments, const std::string& folder,
                          const std::vector<Typed>& typed) {
  int terminal = -1;
  pid_t child = forkpty(&terminal, nullptr, nullptr, nullptr);
  if (child < 0) throw std::runtime_error("forkpty");
  if (child == 0) {
    Start what(built_program(), arguments, own_environment(folder));
    if (chdir(folder.c_str()) == 0)
      execve(what.arguments[0].c_str(), words_of(what.arguments).data(), words_of(what.environment).data());
    _exit(127);
  }
  Ran ran;
  std::size_t next = 0, seen = 0;
  auto give_up = std::chrono::steady_clock::now() + std::chrono::seconds(60);
  for (char block[4096]; std::chrono::steady_clock::now() < give_up;) {
    pollfd wait = {terminal, POLLIN, 0};
    if (poll(&wait, 1, 1000) == 0) continue;
    ssize_t count = read(terminal, block, sizeof block);
    if (count <= 0) break;
    ran.out.append(block, static_cast<std::size_t>(count));
    if (next == typed.size()) continue;
    std::size_t found = ran.out.find(typed[next].wait_for, seen);
    if (found == std::string::npos) continue;
    seen = found + typed[next].wait_for.size();
    const std::string& keys = typed[next++].keys;
    if (write(terminal, keys.data(), keys.size()) < 0) throw std::runtime_error("write to the terminal");
  }
  close(terminal);
  ran.exit_code = exit_code_of(child);
  return ran;
}

bool on_path(const std::string& program) {
  return run("sh", {"-c", "command -v " + program}, "/").exit_code == 0;
}

}  // namespace operculum::test

#pragma once

#include <map>
#include <string>
#include <vector>

namespace operculum::test {

struct Ran {
  int exit_code = -1;  ///< 128 + signal when one ended it
  std::string out, err;
};

/// Runs a program with arguments in a folder and waits for it; standard input is empty unless given.
Ran run(const std::string& program, const std::vector<std::string>& arguments, const std::string& folder,
        const std::map<std::string, std::string>& environment = {}, const std::string& input = "");

/// The built operculum, with a configuration folder of its own so that the user's does not matter.
Ran operculum(const std::vector<std::string>& arguments, const std::string& folder,
              const std::map<std::string, std::string>& environment = {}, const std::string& input = "");

/// The same, ended by a signal after so many microseconds, if it has not ended by itself; kAtFirstWord: as
/// soon as it says something on standard error.
constexpr unsigned kAtFirstWord = 0;
Ran operculum_ended(const std::vector<std::string>& arguments, const std::string& folder, int signal,
                    unsigned microseconds);

/// What a person types once `wait_for` stands on the screen.
struct Typed {
  std::string wait_for, keys;
};

/// The built operculum on a terminal of its own: all three streams and /dev/tty are that terminal, whose
/// whole output is `out`. What never appears is never typed, and the terminal is then hung up.
Ran operculum_on_terminal(const std::vector<std::string>& arguments, const std::string& folder,
                          const std::vector<Typed>& typed);

/// Whether a program is on this machine's PATH.
bool on_path(const std::string& program);

}  // namespace operculum::test

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

/// Whether a program is on this machine's PATH.
bool on_path(const std::string& program);

}  // namespace operculum::test

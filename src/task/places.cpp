#include "task/places.h"

#include <algorithm>
#include <filesystem>

namespace operculum {

std::vector<std::string> expanded(const std::vector<std::string>& targets) {
  std::vector<std::string> all;
  for (const std::string& target : targets) {
    std::error_code error;
    if (!std::filesystem::is_directory(target, error)) {
      all.push_back(target);
      continue;
    }
    std::vector<std::string> files;
    for (const auto& item : std::filesystem::directory_iterator(target, error)) {
      if (item.is_regular_file(error)) files.push_back(item.path().string());
    }
    std::sort(files.begin(), files.end());
    all.insert(all.end(), files.begin(), files.end());
  }
  return all;
}

}  // namespace operculum

#include "task/output_place.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <climits>

#include "container/format.h"
#include "io/safe_path.h"

namespace operculum {

std::string folder_name_for(const std::string& file) {
  std::string name = make_safe(base_name(file), NameRules::here).path;
  auto is_layer_ending = [](std::string_view ending) {
    return format_for_name("x" + std::string(ending)) != nullptr;
  };
  bool first = true;
  for (std::size_t dot = name.rfind('.'); dot != std::string::npos && dot > 0; dot = name.rfind('.')) {
    if (!first && !is_layer_ending(std::string_view(name).substr(dot))) break;
    name.resize(dot);
    first = false;
  }
  return first || name.empty() ? name + "-unpacked" : name;
}

std::string free_folder_name(const std::string& name) {
  struct stat status {};
  std::string folder = name;
  for (unsigned number = 2; lstat(folder.c_str(), &status) == 0; ++number)
    folder = fmt::format("{}~{}", name, number);
  return folder;
}

std::string absolute_path(const std::string& path) {
  if (path.starts_with('/')) return path;
  char current[PATH_MAX];
  return getcwd(current, sizeof current) == nullptr ? path : fmt::format("{}/{}", current, path);
}

}  // namespace operculum

#include "task/selection.h"

#include <algorithm>

namespace operculum {

bool lies_in(std::string_view path, std::string_view folder) {
  if (folder.empty()) return true;
  return path.starts_with(folder) && (path.size() == folder.size() || path[folder.size()] == '/');
}

bool Selection::wants(const std::string& path) const {
  if (!lies_in(path, inside)) return false;
  if (except.matches(path)) return false;
  if (!searches()) return true;
  fitted->patterns.resize(match.patterns().size());
  bool wanted = match.matches(path, &fitted->patterns);
  if (listed && listed->contains(path)) {
    fitted->lines.insert(path);
    wanted = true;
  }
  return wanted;
}

std::vector<std::string> Selection::unfitted() const {
  std::vector<std::string> all;
  for (std::size_t i = 0; i < match.patterns().size(); ++i) {
    if (i >= fitted->patterns.size() || !fitted->patterns[i]) all.push_back(match.patterns()[i].pattern());
  }
  if (!listed) return all;
  std::size_t lines = all.size();
  for (const std::string& path : *listed) {
    if (!fitted->lines.contains(path)) all.push_back(path);
  }
  std::sort(all.begin() + static_cast<std::ptrdiff_t>(lines), all.end());
  return all;
}

}  // namespace operculum

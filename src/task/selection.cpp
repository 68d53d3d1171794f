#include "task/selection.h"

#include <algorithm>

namespace operculum {

bool Selection::wants(const std::string& path) const {
  if (!inside.empty()) {
    bool beneath = path.starts_with(inside) && (path.size() == inside.size() || path[inside.size()] == '/');
    if (!beneath) return false;
  }
  auto fits = [&](const Glob& glob) { return glob.matches(path); };
  if (std::any_of(except.begin(), except.end(), fits)) return false;
  if (match.empty() && !use_list) return true;
  return std::any_of(match.begin(), match.end(), fits) || (use_list && is_listed(path));
}

bool Selection::is_listed(const std::string& path) const {
  for (std::size_t end = path.size();;
       end = path.rfind('/', end - 1)) {  // the path, then each folder above it
    if (end == std::string::npos || end == 0) return false;
    if (listed.contains(path.substr(0, end))) return true;
  }
}

}  // namespace operculum

#include "container/numbered_path.h"

#include <algorithm>
#include <cstdint>

namespace operculum {

std::optional<NumberedPath> NumberedPath::parse(std::string_view path) {
  constexpr std::size_t kMostNumber = UINT32_MAX;
  std::size_t mark = path.rfind('~');
  if (mark == std::string_view::npos || path.find('/', mark) != std::string_view::npos) return std::nullopt;
  std::size_t number = 0, end = mark + 1;
  for (; end < path.size() && path[end] >= '0' && path[end] <= '9'; ++end)
    number = std::min(kMostNumber, number * 10 + static_cast<std::size_t>(path[end] - '0'));
  if (end == mark + 1 || (end < path.size() && path[end] != '.')) return std::nullopt;
  return NumberedPath{std::string(path.substr(0, mark)) + std::string(path.substr(end)), number};
}

}  // namespace operculum
